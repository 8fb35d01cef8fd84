"""A stroke under way, and everything that can happen meanwhile: what was painted is in the journal, and the counts are
right."""

import functools
import time

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QMouseEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from kestrelmist.core.operation import find_operation
from kestrelmist.study.study import Study
from tests.desk_case import DeskCase, pause
from tests.making import two_balls

GROW = {"label": "Ball", "point": (-4.0, 0.0, 0.0), "low": 500.0, "high": 2000.0}
TRUTH = int((two_balls().data > 0).sum())


class StrokeCase(DeskCase):
    def setUp(self):
        super().setUp()
        with self.study_with_balls() as study:
            study.run("new-labels", image=1, name="First")
            study.run("add-label", labels="Two balls#First", label="Mark")
            study.run("smooth", fwhm=1.0)
        self.window = self.open(self.place / "study")
        self.desk = self.window.desk
        self.desk.viewing.show_image(1)
        self.settle(self.window)
        self.desk.viewing.set_stage("Outline")
        self.settle(self.window)
        self.desk.hand.set_tool("brush")
        self.desk.hand.set_settings(size=2.0, shape="ball", only_in_range=False)
        self.desk.viewing.go_to((0.25, 8.0, 5.0))
        self.canvas = self.window.table.slices[1].canvas  # axial
        self.labels = self.desk.viewing.maps.labels

    def press(self, x: float = -3.0) -> None:
        QTest.mousePress(self.canvas, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, self.spot(x))

    def spot(self, x: float):
        return self.pixel(self.canvas, (x, 6.0, 5.0))

    def move(self, x: float) -> None:
        at = QPointF(self.spot(x))
        held, none = Qt.MouseButton.LeftButton, Qt.MouseButton.NoButton
        event = QMouseEvent(
            QMouseEvent.Type.MouseMove, at, self.canvas.mapToGlobal(at), none, held, Qt.KeyboardModifier.NoModifier
        )
        QApplication.sendEvent(self.canvas, event)

    def release(self, x: float = 3.0) -> None:
        QTest.mouseRelease(self.canvas, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, self.spot(x))
        self.settle(self.window)

    def half_a_stroke(self) -> int:
        self.press()
        self.move(0.0)
        painted = int(self.labels.counts[1])
        self.assertGreater(painted, 50)
        return painted

    def assert_right(self, painted: int) -> None:
        """The map in memory and the one that is read from the disk hold so many voxels, and the counts are true."""
        np.testing.assert_array_equal(self.labels.counts[:4], np.bincount(self.labels.data.ravel(), minlength=4)[:4])
        self.assertEqual(int(self.labels.counts[1]), painted)
        with Study(self.place / "study", read_only=True) as there:
            first = next(m.id for m in there.label_maps(1) if m.name == "First")
            self.assertEqual(int(there.label_map(first).counts[1]), painted)


class InterruptedTest(StrokeCase):
    def test_a_change_of_stage(self):
        painted = self.half_a_stroke()
        QTest.keyClick(self.window, Qt.Key.Key_5, Qt.KeyboardModifier.AltModifier)
        self.assertEqual(self.desk.viewing.stage, "Measure")
        self.assertIsNone(self.desk.hand.gesture)
        self.move(3.0)
        self.release()
        self.assert_right(painted)
        self.assertEqual(self.desk.session.undo_title, "Brush “Mark”")
        self.desk.session.undo()
        self.assert_right(0)

    def test_undo_takes_back_what_is_painted_so_far(self):
        self.half_a_stroke()
        QTest.keyClick(self.window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.assert_right(0)
        self.move(3.0)
        self.release()
        self.assert_right(0)
        self.desk.session.redo()
        self.assertGreater(int(self.labels.counts[1]), 50)

    def test_undo_after_a_look_takes_back_the_stroke_and_then_the_look(self):
        look = self.desk.viewing.look.colour_map
        self.desk.viewing.set_look(colour_map="Ember")
        self.half_a_stroke()
        QTest.keyClick(self.window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.assert_right(0)
        self.assertIsNone(self.desk.hand.gesture)
        self.assertEqual(self.desk.viewing.look.colour_map, "Ember")
        QTest.keyClick(self.window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.assertEqual(self.desk.viewing.look.colour_map, look)
        for _ in range(2):
            QTest.keyClick(self.window, Qt.Key.Key_Y, Qt.KeyboardModifier.ControlModifier)
        self.assertEqual(self.desk.viewing.look.colour_map, "Ember")
        self.assertGreater(int(self.labels.counts[1]), 50)

    def test_escape_takes_the_stroke_back(self):
        self.half_a_stroke()
        QTest.keyClick(self.canvas, Qt.Key.Key_Escape)
        self.move(3.0)
        self.release()
        self.assert_right(0)
        self.assertEqual(self.desk.session.undo_title, "Smooth")

    def test_other_tools_labels_maps_images_and_themes(self):
        other = next(r.id for r in self.desk.study.records() if r.id != 1)
        for interrupt in (
            lambda: self.desk.hand.set_tool("eraser"),
            lambda: self.desk.session.run("add-label", {"labels": self.desk.viewing.maps.map.id, "label": "Next"}),
            lambda: self.desk.session.run("new-labels", {"image": 1, "name": "Second"}),
            lambda: self.desk.viewing.show_image(other),
            lambda: self.window.set_theme("dusk"),
            lambda: self.window.bench.open_operation(find_operation("smooth")),
            lambda: self.window.resize(1100, 700),
            lambda: self.desk.session.run("rename", {"thing": 1, "name": "Balls"}),
        ):
            painted = self.half_a_stroke()
            interrupt()
            self.settle(self.window)
            self.move(2.0)
            self.release()
            now = int(self.labels.counts[1])
            self.assertGreaterEqual(now, painted)
            self.assert_right(now)
            while int(self.labels.counts[1]):
                self.desk.session.undo()
            self.desk.viewing.show_image(1)
            self.settle(self.window)
            first = next(m.id for m in self.desk.study.label_maps(1) if m.name == "First")
            self.desk.viewing.maps.choose(first)
            self.settle(self.window)
            self.labels = self.desk.viewing.maps.labels
            self.desk.viewing.set_stage("Outline")
            self.desk.hand.set_tool("brush")
            self.desk.hand.choose_label(1)
            self.desk.viewing.go_to((0.25, 8.0, 5.0))
            self.settle(self.window)

    def test_closing_the_window(self):
        painted = self.half_a_stroke()
        self.window.close()
        with Study(self.place / "study") as study:
            first = next(m.id for m in study.label_maps(1) if m.name == "First")
            self.assertEqual(int(study.label_map(first).counts[1]), painted)
            self.assertEqual(study.history.to_undo().title, "Brush “Mark”")

    def test_a_menu_of_the_system_takes_the_mouse(self):
        painted = self.half_a_stroke()
        self.canvas.clearFocus()
        QApplication.sendEvent(self.canvas, QMouseEvent(
            QMouseEvent.Type.MouseMove, QPointF(5, 5), self.canvas.mapToGlobal(QPointF(5, 5)),
            Qt.MouseButton.NoButton, Qt.MouseButton.NoButton, Qt.KeyboardModifier.NoModifier,
        ))  # fmt: skip
        self.settle(self.window)
        self.assertIsNone(self.desk.hand.gesture)
        self.assert_right(painted)

    def test_a_second_button_in_the_middle_of_it(self):
        painted = self.half_a_stroke()
        look = self.desk.viewing.look
        QTest.mousePress(self.canvas, Qt.MouseButton.RightButton, Qt.KeyboardModifier.NoModifier, self.spot(0.0))
        QTest.mouseRelease(self.canvas, Qt.MouseButton.RightButton, Qt.KeyboardModifier.NoModifier, self.spot(0.0))
        self.assertIsNotNone(self.desk.hand.gesture)
        self.move(3.0)
        self.release()
        self.assertEqual(self.desk.viewing.look, look)
        self.assertGreater(int(self.labels.counts[1]), painted)
        self.assert_right(int(self.labels.counts[1]))


class StaleWorkTest(StrokeCase):
    def test_slow_work_then_another_image_then_undo(self):
        """What a worker found for a state that is no more is worked out anew, never applied."""
        self.desk.session.run("grow", {"image": 1, "labels": self.desk.viewing.maps.map.id, **GROW})
        self.settle(self.window)
        ball = self.labels.table.named("Ball").number
        self.assertEqual(int(self.labels.counts[ball]), TRUTH)
        slow, operation = [], find_operation("threshold").function

        @functools.wraps(operation)
        def dawdle(image, labels, *args, **kwargs):
            slow.append(int(labels.counts[ball]))
            edit = operation(image, labels, *args, **kwargs)
            time.sleep(0.4)
            return edit

        object.__setattr__(find_operation("threshold"), "function", dawdle)
        self.addCleanup(object.__setattr__, find_operation("threshold"), "function", operation)
        given = {"image": 1, "labels": self.desk.viewing.maps.map.id, "label": "Other", "low": -1.0, "high": 400.0}
        self.desk.session.run("threshold", given)
        pause(100)
        other = next(r.id for r in self.desk.study.records() if r.id != 1)
        self.desk.viewing.show_image(other)
        self.desk.session.undo()  # the grown ball goes while the worker is at it
        self.settle(self.window)
        self.assertGreaterEqual(len(slow), 2)
        self.assertFalse(self.labels.table.has_name("Ball"))
        values = two_balls().data
        self.assertEqual(int(self.labels.counts[self.labels.table.named("Other").number]), int((values <= 400).sum()))
        np.testing.assert_array_equal(self.labels.counts[:5], np.bincount(self.labels.data.ravel(), minlength=5)[:5])

    def test_closed_while_a_worker_is_busy(self):
        operation = find_operation("threshold").function

        @functools.wraps(operation)
        def dawdle(*args, **kwargs):
            time.sleep(0.5)
            return operation(*args, **kwargs)

        object.__setattr__(find_operation("threshold"), "function", dawdle)
        self.addCleanup(object.__setattr__, find_operation("threshold"), "function", operation)
        self.desk.session.run("threshold", {"label": "Other", "low": 1.0, "high": 2000.0, "image": 1})
        pause(50)
        self.window.close()
        with Study(self.place / "study") as study:
            self.assertEqual(int(study.labels(1).counts[1:].sum()), 0)
            self.assertEqual([p.name for p in study.folder.glob(".side-*")], [])
