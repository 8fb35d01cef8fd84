"""What happens between two gestures, and in the middle of one: renamed labels, another image, a rest, undo."""

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from kestrelmist.core.image import Image
from kestrelmist.core.patch import LabelEdit, patch_to
from kestrelmist.desk.models.bridged_seen import PAUSE
from kestrelmist.study.journal.logbook import BY_HAND, Step
from tests.desk_case import pause
from tests.drawing_case import ALT, LEFT, NONE, DrawingCase
from tests.making import keep_thing, two_balls


class BetweenGesturesTest(DrawingCase):
    """The left ball, outlined as “Ball” in the pane that leads."""

    def setUp(self):
        super().setUp()
        self.viewing.set_stage("Outline")
        self.desk.run_now("add-label", {"label": "Ball"})
        self.settle(self.window)
        self.hand = self.desk.hand
        view = self.canvas.current_view()
        place = view.to_pixel((-4.0, 0.0, 0.0))
        self.middle = [round(float(v) - n / 2) for v, n in zip(place, (self.canvas.width(), self.canvas.height()))]
        self.radius = 4.0 / view.pixel

    @property
    def names(self) -> list[str]:
        return [row.name for row in self.viewing.maps.labels.table]

    def count(self, number: int = 1) -> int:
        return int(self.viewing.maps.labels.counts[number])

    def inside(self, up: float = 0.0) -> None:
        x, y = self.middle[0], self.middle[1] - round(up * self.radius)
        self.drag([(x - round(0.5 * self.radius), y), (x + round(0.4 * self.radius), y)])

    def outside(self) -> None:
        turn, far = np.linspace(0, 2 * np.pi, 16), 1.35 * self.radius
        x, y = self.middle
        self.drag([(round(x + far * np.cos(t)), round(y + far * np.sin(t))) for t in turn], ALT)

    def threshold(self) -> None:
        self.desk.run("threshold", {"label": "Ball", "low": 500.0, "high": 2000.0})
        self.settle(self.window)

    def another_image(self) -> int:
        """A second image with a label of the same name and shape."""
        balls = two_balls()
        key = keep_thing(self.study, Image(balls.data + 1, balls.space, name="Other balls"))
        self.study.run("threshold", image=key, label="Ball", low=500.0, high=2000.0)
        self.settle(self.window)
        return key

    def test_strokes_follow_a_label_that_is_renamed(self):
        self.hand.set_tool("strokes")
        self.inside()
        self.outside()
        self.settle(self.window)
        found = self.count()
        self.desk.run_now("change-label", {"label": "Ball", "name": "Left ball"})
        self.settle(self.window)
        steps = len(self.study.logbook.entries())
        self.inside(0.4)
        self.settle(self.window)
        self.assertEqual(self.names, ["Left ball"])
        self.assertEqual([m.name for m in self.drawn()], ["Left ball", "Outside", "Left ball"])
        self.assertLess(abs(self.count() / found - 1), 0.1)
        self.assertEqual(len(self.study.logbook.entries()), steps + 2)  # the stroke with all names, and the object
        self.assertEqual(self.troubles, [])

    def test_contours_follow_a_label_that_is_renamed(self):
        self.hand.set_tool("freehand")
        turn = np.linspace(0, 2 * np.pi, 14)
        x, y = self.middle
        ring = [(round(x + 0.8 * self.radius * np.cos(t)), round(y + 0.8 * self.radius * np.sin(t))) for t in turn]
        self.drag(ring)
        self.settle(self.window)
        self.assertEqual([m.name for m in self.drawn()], ["Ball"])
        self.desk.run_now("change-label", {"label": "Ball", "name": "Eye"})
        self.settle(self.window)
        self.marks.choose(self.drawn()[0].id)
        self.key(Qt.Key.Key_F)
        self.settle(self.window)
        self.assertEqual((self.names, [m.name for m in self.drawn()]), (["Eye"], ["Eye"]))
        self.assertGreater(self.count(), 20)
        self.desk.undoing.undo()
        self.settle(self.window)
        self.assertEqual((self.count(), [m.name for m in self.drawn()]), (0, ["Ball"]))
        self.assertEqual(self.troubles, [])

    def test_a_new_label_at_the_number_of_one_that_was_deleted_has_no_strokes(self):
        self.hand.set_tool("strokes")
        self.inside()
        self.settle(self.window)
        self.desk.run_now("delete-label", {"label": "Ball"})
        self.desk.run_now("add-label", {"label": "Other"})
        self.settle(self.window)
        self.assertEqual(self.hand.label.number, 1)
        self.outside()
        self.settle(self.window)
        self.assertEqual([m.name for m in self.drawn()], ["Ball", "Outside"])
        self.assertEqual((self.names, self.count()), (["Other"], 0))

    def test_the_next_stroke_does_not_wait_for_the_last_object(self):
        self.hand.set_tool("strokes")
        self.inside()
        self.outside()
        self.assertTrue(self.desk.session.work.jobs)
        self.inside(0.4)
        self.settle(self.window)
        self.assertEqual(len(self.drawn()), 3)
        self.assertGreater(self.count(), 1000)
        self.assertEqual(self.troubles, [])

    def test_a_stroke_that_is_given_up_leaves_the_object_of_those_before(self):
        self.hand.set_tool("strokes")
        self.inside()
        self.outside()
        x, y = self.middle
        QTest.mousePress(self.canvas, LEFT, NONE, self.at(x, y))
        self.move((x + 10, y))
        self.key(Qt.Key.Key_Escape)
        QTest.mouseRelease(self.canvas, LEFT, NONE, self.at(x + 10, y))
        self.settle(self.window)
        self.assertEqual(len(self.drawn()), 2)
        self.assertGreater(self.count(), 1000)
        self.assertEqual(self.troubles, [])

    def test_another_image_in_the_middle_of_a_cut_ends_it_on_the_first(self):
        self.threshold()
        other, first = self.another_image(), self.viewing.record.id
        self.hand.set_tool("touch-up")
        x, y = self.middle
        high = round(1.5 * self.radius)
        QTest.mousePress(self.canvas, LEFT, NONE, self.at(x, y - high))
        self.move((x, y + high))
        self.viewing.show_image(other)
        QTest.mouseRelease(self.canvas, LEFT, NONE, self.at(x, y + high))
        self.settle(self.window)
        self.assertEqual(self.names, ["Ball"])
        self.viewing.show_image(first)
        self.settle(self.window)
        self.assertEqual(self.names, ["Ball", "Ball 2"])
        self.assertEqual(self.troubles, [])

    def test_another_image_in_the_middle_of_a_stroke_ends_it_on_the_first(self):
        other, first = self.another_image(), self.viewing.record.id
        self.hand.set_tool("strokes")
        self.inside()
        self.settle(self.window)
        steps, there = len(self.study.logbook.entries()), int(self.study.labels(other).counts[1])
        x, y = self.middle
        far = round(1.35 * self.radius)
        QTest.mousePress(self.canvas, LEFT, ALT, self.at(x - far, y))
        self.move((x - far, y - 20), ALT)
        self.viewing.show_image(other)
        QTest.mouseRelease(self.canvas, LEFT, ALT, self.at(x - far, y - 20))
        self.settle(self.window)
        self.assertEqual(len(self.study.marks.on(other)), 0)
        self.assertEqual(len(self.study.marks.on(first)), 2)
        self.assertEqual(len(self.study.logbook.entries()), steps + 2)
        self.assertEqual((self.names, self.count()), (["Ball"], there))
        self.assertEqual(self.troubles, [])

    def bridged(self) -> None:
        """Every fourth slice of the ball, bridged."""
        self.threshold()
        labels = self.viewing.maps.labels
        sparse = labels.kji.copy()
        sparse[np.arange(sparse.shape[0]) % 4 != 0] = 0
        patch = patch_to(labels, sparse)
        self.study.maps.keep_edit(labels, LabelEdit("Thin", patch), False, Step(BY_HAND, "Thin", {}, {}))
        self.desk.run("bridge-slices", {"label": "Ball"})
        self.settle(self.window)
        self.assertTrue(self.viewing.maps.labels.table[1].bridged)

    def look_through(self) -> None:
        for n in range(self.viewing.record.grid.shape[2]):
            self.viewing.go_to(self.viewing.record.grid.to_world((20, 20, n)))

    def test_a_rest_after_bridged_slices_does_not_cut_a_brush_stroke(self):
        self.bridged()
        self.hand.set_tool("brush")
        self.look_through()
        QTest.mousePress(self.canvas, LEFT, NONE, self.at(0, 0))
        self.move((20, 0))
        gesture = self.hand.gesture
        pause(PAUSE + 200)
        self.assertIs(self.hand.gesture, gesture)
        self.assertTrue(self.viewing.maps.labels.table[1].bridged)
        QTest.mouseRelease(self.canvas, LEFT, NONE, self.at(20, 0))
        pause(PAUSE + 200)
        self.settle(self.window)
        self.assertFalse(self.viewing.maps.labels.table[1].bridged)
        self.assertEqual(self.troubles, [])

    def test_looking_on_after_undo_leaves_what_can_be_redone(self):
        self.bridged()
        self.desk.run_now("add-label", {"label": "Other"})
        self.desk.undoing.undo()
        self.settle(self.window)
        self.look_through()
        pause(PAUSE + 200)
        self.assertEqual(self.names, ["Ball"])
        self.desk.undoing.redo()
        self.settle(self.window)
        self.assertEqual(self.names, ["Ball", "Other"])
