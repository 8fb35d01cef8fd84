"""Outlining by hand: contours that are drawn, mended and filled; edges, vessels, strokes and cells; and gestures that
something interrupts."""

import unittest

import numpy as np
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest

from kestrelmist.core.geometry.healing import healed, with_point, without_point
from kestrelmist.core.geometry.mark import Mark
from kestrelmist.core.image import Image
from kestrelmist.core.operation import find_operation
from kestrelmist.formats.nifti import write_nifti
from tests.desk_case import pause, with_solid_view
from tests.drawing_case import ALT, LEFT, NONE, DrawingCase
from tests.making import straight_space


class HealingTest(unittest.TestCase):
    """Geometry alone."""

    circle = np.stack(
        [
            10 * np.cos(np.linspace(0, 2 * np.pi, 40, False)),
            10 * np.sin(np.linspace(0, 2 * np.pi, 40, False)),
            np.zeros(40),
        ],
        1,
    )

    @staticmethod
    def area(line) -> float:
        x, y = line[:, 0], line[:, 1]
        return abs(float((x * np.roll(y, -1) - np.roll(x, -1) * y).sum())) / 2

    def test_a_stretch_drawn_anew_takes_the_place_of_the_nearer_one(self):
        bulge = np.array(((10.0, 0.5, 0), (14, 3, 0), (14, 7, 0), (7.1, 7.2, 0)))
        for stroke in (bulge, bulge[::-1]):
            found = healed(self.circle, stroke)
            self.assertGreater(self.area(found), self.area(self.circle) + 15)
            self.assertLess(self.area(found), self.area(self.circle) + 60)
            self.assertLess(np.linalg.norm(found - (-10, 0, 0), axis=1).min(), 0.1)
        cut = np.array(((10.0, 0, 0), (5, 4, 0), (0, 10, 0)))
        self.assertLess(self.area(healed(self.circle, cut)), self.area(self.circle) - 20)

    def test_on_one_side_and_corners(self):
        square = np.array(((0.0, 0, 0), (10, 0, 0), (10, 10, 0), (0, 10, 0)))
        dent = np.array(((3.0, 0, 0), (5, 2, 0), (7, 0, 0)))
        for stroke in (dent, dent[::-1]):
            self.assertAlmostEqual(self.area(healed(square, stroke)), 100 - 4, places=6)
        self.assertEqual(with_point(square, np.array((10.2, 5.0, 0)))[2].tolist(), [10.2, 5.0, 0.0])
        self.assertEqual(len(without_point(square, 1)), 3)
        self.assertEqual(len(without_point(square[:3], 1)), 3)


class OutlineDeskTest(DrawingCase):
    def setUp(self):
        super().setUp()
        self.viewing.set_stage("Outline")
        self.desk.run_now("add-label", {"label": "Ball"})
        self.settle(self.window)
        self.hand = self.desk.hand

    def ring(self, radius=60, count=24, middle=(0, 0)):
        turn = np.linspace(0, 2 * np.pi, count)
        return [(round(middle[0] + radius * np.cos(t)), round(middle[1] + radius * np.sin(t))) for t in turn]

    @property
    def voxels(self) -> int:
        return int(self.viewing.maps.labels.counts[1])

    def count(self) -> int:
        return len(self.desk.study.logbook.entries())

    def test_freehand_is_kept_filled_and_undone(self):
        self.hand.set_tool("freehand")
        before = self.count()
        self.drag(self.ring())
        mark = self.drawn()[-1]
        self.assertEqual((mark.shape, mark.name, self.count()), ("polygon", "Ball", before + 1))
        width = self.world(60, 0)[0] - self.world(-60, 0)[0]
        self.assertLess(abs(np.ptp(mark.array[:, 0]) / abs(width) - 1), 0.03)
        self.key(Qt.Key.Key_F)
        self.settle(self.window)
        area = np.pi * (width / 2) ** 2
        self.assertLess(abs(self.voxels * 0.25 / area - 1), 0.06)
        self.desk.undoing.undo()
        self.settle(self.window)
        self.assertEqual((self.voxels, len(self.drawn())), (0, 1))
        self.desk.undoing.undo()
        self.settle(self.window)
        self.assertEqual(self.drawn(), [])
        self.assertEqual(self.troubles, [])

    def test_a_stretch_drawn_anew_heals_the_chosen_contour(self):
        self.hand.set_tool("freehand")
        self.drag(self.ring())
        before = self.drawn()[-1]
        self.drag([(60, 2), (90, 25), (75, 45), (42, 42)])
        after = self.drawn()
        self.assertEqual(len(after), 1)
        self.assertEqual(after[0].id, before.id)
        reach = np.abs(after[0].array[:, 0] - self.world(0, 0)[0]).max()
        self.assertGreater(reach, 1.3 * np.abs(before.array[:, 0] - self.world(0, 0)[0]).max())
        self.desk.undoing.undo()
        self.settle(self.window)
        self.assertEqual(self.drawn()[0].points, before.points)

    def test_a_stretch_that_would_leave_nothing_is_not_taken(self):
        left, right, below = (self.world(*place) for place in ((-60, 0), (60, 0), (60, 1)))
        corners = tuple(tuple(c.tolist()) for c in (left, right, right + 0.05 * (below - right)))
        normal = tuple(float(v) for v in self.marks.plane(self.canvas.current_view()).normal)
        sliver = Mark("polygon", corners, 0, normal, name="Ball")
        self.marks.keep("Draw", {0: sliver}, self.marks.key, self.viewing.record.id)
        self.settle(self.window)
        before = self.drawn()[0]
        self.hand.set_tool("freehand")
        self.marks.choose(before.id)
        self.drag([(-60, 0), (0, 0), (60, 0)])
        self.settle(self.window)
        after = self.drawn()
        self.assertEqual((len(after), after[0].points), (1, before.points))
        self.assertEqual(self.troubles, [])

    def test_corners_come_and_go_and_copies_go_on(self):
        self.hand.set_tool("mark-polygon")
        for place in ((-60, -60), (60, -60), (60, 60)):
            self.press(*place)
        self.key(Qt.Key.Key_Return)
        self.hand.set_tool("freehand")
        self.press(0, -60, ALT)
        self.assertEqual(len(self.drawn()[-1].points), 4)
        self.press(60, 60, ALT)
        self.assertEqual(len(self.drawn()[-1].points), 3)
        first, at = self.drawn()[-1], self.viewing.crosshair
        self.key(Qt.Key.Key_C)
        self.settle(self.window)
        copy = self.drawn()[-1]
        self.assertEqual(len(self.drawn()), 2)
        self.assertAlmostEqual(float(np.abs(copy.middle - first.middle).max()), 0.5, places=6)
        self.assertGreater(float(np.abs(np.asarray(self.viewing.crosshair) - at).max()), 0)
        self.key(Qt.Key.Key_X)
        self.settle(self.window)
        mirrored = self.drawn()[-1]
        self.assertEqual(len(self.drawn()), 3)
        centre = float(self.viewing.record.grid.centre[0])
        self.assertAlmostEqual(mirrored.middle[0] + copy.middle[0], 2 * centre, places=5)
        self.assertEqual(self.troubles, [])

    def test_the_edge_line_clings_and_is_ended_by_another_tool(self):
        self.hand.set_tool("edge-line")
        view = self.canvas.current_view()
        ball = view.to_pixel((-4.0, 0.0, 0.0))
        middle = (round(float(ball[0]) - self.canvas.width() / 2), round(float(ball[1]) - self.canvas.height() / 2))
        radius = 4.0 / view.pixel
        corners = [
            (round(middle[0] + radius * np.cos(t)), round(middle[1] + radius * np.sin(t))) for t in (1.0, 2.4, 3.8, 5.2)
        ]
        for place in corners:
            self.press(*place)
            self.settle(self.window)
        self.assertIsNotNone(self.hand.gesture.ways)
        self.key(Qt.Key.Key_Return)
        mark = self.drawn()[-1]
        self.assertEqual(mark.shape, "polygon")
        away = (
            np.linalg.norm(mark.array[:, [0, 2]] - (-4.0, 0.0), axis=1)
            if abs(np.ptp(mark.array[:, 1])) < 1e-6
            else np.linalg.norm(mark.array[:, :2] - (-4.0, 0.0), axis=1)
        )
        inner = away[np.abs(away - 4) < 2]
        self.assertLess(float(np.abs(inner - 4.0).mean()), 0.45)
        self.press(*corners[0])
        self.press(*corners[1])
        self.hand.set_tool("brush")
        self.assertIsNone(self.hand.gesture)
        self.assertEqual(self.troubles, [])

    def test_escape_gives_up_and_a_stage_ends_it(self):
        self.hand.set_tool("edge-line")
        self.press(-40, 0)
        self.key(Qt.Key.Key_Escape)
        self.assertEqual((self.drawn(), self.hand.gesture), ([], None))
        self.hand.set_tool("freehand")
        self.draw((-40, 0), (40, 30), let_go=False)
        self.viewing.set_stage("Measure")
        self.settle(self.window)
        self.assertEqual(len(self.drawn()), 1)
        QTest.mouseRelease(self.canvas, LEFT, NONE, self.at(40, 30))

    @with_solid_view
    def test_the_solid_grows_while_the_brush_does_not_rest(self):
        self.hand.set_tool("brush")
        self.hand.set_settings(size=3.0)
        solid, seen = self.window.table.solid.canvas, set()
        QTest.mousePress(self.canvas, LEFT, NONE, self.at(-60, 0))
        for n in range(40):  # never longer at rest than a hand is
            self.move((-60 + 3 * n, n % 7))
            pause(30)
            seen.update(count for key, count in solid.triangles.items() if key[1] == 1 and count)
        self.assertTrue(self.hand.gesture is not None and solid.feed._patched)
        self.assertGreater(len(seen), 2)  # it was drawn anew while the button was down
        QTest.mouseRelease(self.canvas, LEFT, NONE, self.at(57, 4))
        self.settle(self.window)
        self.assertEqual(solid.feed._patched, set())  # and finely at the end
        key = self.viewing.maps.map.id, 1
        self.assertEqual(solid.feed.known[key][0][1], int(self.viewing.maps.labels.revision[1]))
        self.assertEqual(self.troubles, [])

    def test_strokes_find_the_ball(self):
        self.hand.set_tool("strokes")
        view = self.canvas.current_view()
        at = [
            round(float(v) - n / 2)
            for v, n in zip(view.to_pixel((-4.0, 0.0, 0.0)), (self.canvas.width(), self.canvas.height()))
        ]
        radius = 4.0 / view.pixel
        self.drag([(round(at[0] - 0.5 * radius), at[1]), (round(at[0] + 0.4 * radius), at[1])])
        self.settle(self.window)
        self.assertEqual(self.voxels, 0)
        self.drag(self.ring(round(1.35 * radius), 16, at), ALT)
        self.settle(self.window)
        self.assertEqual([m.name for m in self.drawn()], ["Ball", "Outside"])
        self.assertLess(abs(self.voxels * 0.125 / (4 / 3 * np.pi * 64) - 1), 0.25)
        found = self.voxels
        self.desk.undoing.undo()  # the stroke and what was found by it are one step
        self.settle(self.window)
        self.assertEqual(([m.name for m in self.drawn()], self.voxels), (["Ball"], 0))
        self.desk.undoing.redo()
        self.settle(self.window)
        self.assertEqual(([m.name for m in self.drawn()], self.voxels), (["Ball", "Outside"], found))
        self.assertEqual(self.troubles, [])

    def test_touching_up_joins_cuts_takes_and_adds(self):
        self.desk.run("threshold", {"label": "Ball", "low": 500.0, "high": 2000.0})
        self.settle(self.window)
        self.hand.set_tool("touch-up")
        view = self.canvas.current_view()

        def pixel(x):
            found = view.to_pixel((x, 0.0, 0.0))
            return [round(float(v) - n / 2) for v, n in zip(found, (self.canvas.width(), self.canvas.height()))]

        cut = pixel(0.3)
        whole = self.voxels
        self.drag([(cut[0], cut[1] - 40), (cut[0], cut[1] + 40)])
        self.settle(self.window)
        labels = self.viewing.maps.labels
        self.assertEqual([row.name for row in labels.table], ["Ball", "Ball 2"])
        self.assertEqual(int(labels.counts[1] + labels.counts[2]), whole)
        self.drag([pixel(-4), pixel(4)])
        self.settle(self.window)
        self.assertEqual(int(labels.counts[1]), whole)
        self.press(*pixel(-4), ALT)
        self.settle(self.window)
        self.assertEqual([row.name for row in self.viewing.maps.labels.table], ["Ball 2"])
        self.press(*pixel(-4))
        self.settle(self.window)
        self.assertEqual([row.name for row in self.viewing.maps.labels.table], ["Cell 1", "Ball 2"])
        self.assertEqual(self.troubles, [])

    def test_labels_are_found_by_name_or_number(self):
        for n in range(2, 14):
            self.desk.run_now("add-label", {"label": f"Part {n}"})
        self.settle(self.window)
        found = self.window.bench.page("Outline").groups["labels"]
        self.assertTrue(found.search.isVisible())
        QTest.keyClicks(found.search, "part 1")
        self.assertEqual(sorted(found.rows), [10, 11, 12, 13])
        found.search.setText("7")
        self.assertEqual(sorted(found.rows), [7])
        found.search.clear()
        self.assertGreater(len(found.rows), 8)

    def test_a_width_is_asked_for_and_not_made_up(self):
        form = self.window.bench.page("Outline").open(find_operation("find-cells"))
        field = form.fields["diameter"]
        self.assertEqual((field.text(), field.placeholderText()), ("", "µm"))
        self.press_button(form.apply)
        self.assertIn("needs diameter: give a number", form.trouble.text())

    def test_the_brush_paints_over_free_voxels_alone(self):
        self.hand.set_tool("brush")
        self.hand.set_settings(size=6.0)
        self.press(0, 0)
        ball = self.voxels
        self.desk.run_now("add-label", {"label": "Rest"})
        self.settle(self.window)
        size = self.window.bench.page("Outline").groups["size"]
        self.assertEqual(
            [size.over.itemText(n) for n in range(4)], ["Everything", "Free voxels only", "Ball only", "Rest only"]
        )
        size.over.setCurrentIndex(1)
        size.over.activated.emit(1)
        self.press(10, 0)
        self.assertEqual(self.voxels, ball)
        self.assertGreater(int(self.viewing.maps.labels.counts[2]), 0)

    def test_the_group_fills_all(self):
        self.hand.set_tool("freehand")
        self.drag(self.ring(40, 20, (-60, 0)))
        self.drag(self.ring(30, 20, (70, 0)))
        group = next(
            g for g in self.window.bench.page("Outline").groups.values() if hasattr(g, "buttons") and "all" in g.buttons
        )
        self.assertTrue(group.buttons["fill"].isEnabled())
        self.press_button(group.buttons["all"])
        self.settle(self.window)
        self.assertGreater(self.voxels, 30)
        self.assertEqual(self.troubles, [])

    def press_button(self, button) -> None:
        QTest.mouseClick(button, LEFT)


class VesselDeskTest(DrawingCase):
    def setUp(self):
        super().setUp()
        space = straight_space((60, 50, 40), 0.25)
        from tests.test_vessels import tube

        t = np.linspace(0, 1, 300)
        self.line = np.stack((-5 + 10 * t, 1.5 * np.sin(5 * t), 0 * t), 1)
        values = 100 + 400 * tube(space, self.line, 0.6)
        image = Image(values.T.astype(np.float32), space)
        write_nifti(self.place / "vessel.nii.gz", image.data, space)
        self.study.run("gather", folder=self.place / "vessel.nii.gz")
        self.settle(self.window)
        self.viewing.show_image(self.study.records()[-1].id)
        self.viewing.set_stage("Outline")
        self.settle(self.window)
        self.desk.run_now("add-label", {"label": "Artery"})
        self.settle(self.window)

    def test_clicks_follow_the_vessel_a_step_each(self):
        self.viewing.go_to((0.0, 0.0, 0.0))
        self.desk.hand.set_tool("vessel")
        axial = next(p.canvas for p in self.window.table.panes if p.canvas.plane.across == 2)
        if axial is not self.canvas:
            self.canvas = axial
        steps = len(self.study.logbook.entries())
        for n in (10, 150, 290):
            at = axial.current_view().to_pixel(self.line[n])
            QTest.mouseClick(axial, LEFT, NONE, QPoint(round(float(at[0])), round(float(at[1]))))
            self.settle(self.window)
        self.key(Qt.Key.Key_Return)
        self.assertIsNone(self.desk.hand.gesture)
        labels = self.viewing.maps.labels
        wanted = np.pi * 0.36 * np.linalg.norm(np.diff(self.line, axis=0), axis=1).sum()
        self.assertLess(abs(float(labels.counts[1]) * 0.25**3 / wanted - 1), 0.25)
        self.assertEqual(len(self.study.logbook.entries()), steps + 2)
        self.assertEqual(self.troubles, [])
