"""Sections in the window: drawn, moved, read with two cursors, kept, measured, and what happens meanwhile."""

import math

import numpy as np
from PySide6.QtCore import QEvent, QPointF, Qt
from PySide6.QtGui import QMouseEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from kestrelmist.core.curve import Curve
from kestrelmist.core.errors import Trouble
from kestrelmist.core.geometry.mark import Mark
from kestrelmist.formats.saving import save_image
from kestrelmist.formats.table_files import read_csv
from kestrelmist.measure.readings import Scales, read_sections, reading_of
from kestrelmist.measure.section import Line, curve_of, section_of
from kestrelmist.measure.trace_noise import Sureness
from kestrelmist.study.study import Study
from tests.desk_case import DeskCase
from tests.making import PlaceCase
from tests.test_level import height_map

FLAT = Mark("section", ((0, 0, 0), (0, 0, 0)))


def stepped() -> np.ndarray:
    """A groove 80 deep in columns 40 to 69 of 110, on a slope, with a little noise."""
    x = np.arange(110)
    groove = np.where((x >= 40) & (x < 70), -80.0, 0.0) + 0.5 * x
    return np.tile(groove, (70, 1)) + np.random.default_rng(1).normal(0, 0.5, (70, 110))


class ReadingTest(PlaceCase):
    def test_what_cursors_tell(self):
        curve = Curve([0.0, 0.0, 3000.0, 3000.0], [0.0, 0.001, 0.002, 0.003], "mm", "nm", mark=FLAT, name="Ramp")
        found = reading_of(curve, 0.001, 0.002)
        self.assertAlmostEqual(found.along, 0.001)
        self.assertAlmostEqual(found.difference, 3000)
        self.assertAlmostEqual(found.straight, np.hypot(0.001, 0.003))
        self.assertAlmostEqual(found.angle, np.degrees(np.arctan(3)))
        self.assertAlmostEqual(found.slope, 3e6)
        back = reading_of(curve, 0.002, 0.001)
        self.assertAlmostEqual((back.along, back.difference), (-0.001, -3000))
        self.assertAlmostEqual(reading_of(curve, 0.0015, 0.0015).straight, 0)
        grey = reading_of(Curve([1.0, 2.0], [0.0, 4.0], "px", "", mark=FLAT), 0, 4)
        self.assertEqual((grey.straight, grey.angle, grey.slope), (None, None, 0.25))
        self.assertTrue(np.isnan(reading_of(curve, 0, 1).difference))

    def test_as_a_table(self):
        curve = Curve([0.0, 8.0], [0.0, 0.004], "mm", "nm", mark=FLAT, name="=1+1")
        table = read_sections([curve, curve], 0.001, 0.003)
        self.assertEqual(table.rows[0][:5], ("=1+1", 0.001, 0.003, 0.002, table.rows[0][4]))
        self.assertEqual((table.column("length_unit")[1], table.column("unit")[1]), ("mm", "nm"))
        self.assertAlmostEqual(table.column("difference")[1], 4)
        self.assertEqual(table.column("slope_unit")[1], "nm/mm")
        self.assertEqual(table.column("difference_uncertainty"), [None, None])
        for words, curves, second in (("0.004 mm long", [curve], 0.01), ("no section", [Curve([1.0])], 0.001)):
            with self.assertRaisesRegex(Trouble, words):
                read_sections(curves, 0.0, second)

    def test_how_sure_it_is(self):
        """As a hundred thousand made-up scales spread what is read."""
        curve = Curve([100.0, 900.0], [0.0, 0.001], "mm", "nm", mark=FLAT)
        noise = Sureness(np.array([15.0]), np.ones(1), np.array([1e9]), math.inf)
        found = reading_of(curve, 0.0002, 0.0008, Scales(0.02, 0.03), noise).unsure
        random = np.random.default_rng(4)
        heights = 480 * (1 + 0.02 * random.normal(size=100_000)) + 15 * random.normal(size=100_000)
        lengths = 0.0006 * (1 + 0.03 * random.normal(size=100_000))
        rise = heights * 1e-6
        for told, made in (
            (found.along, lengths),
            (found.difference, heights),
            (found.straight, np.hypot(lengths, rise)),
            (found.slope, heights / lengths),
            (found.angle, np.degrees(np.arctan2(rise, lengths))),
        ):
            self.assertAlmostEqual(told / (1.96 * made.std()), 1, delta=0.02)
        unknown = reading_of(curve, 0.0002, 0.0008).unsure
        self.assertTrue(np.isnan([unknown.along, unknown.difference, unknown.straight, unknown.slope]).all())

    def test_noise_and_calibration_in_the_table(self):
        image = height_map(stepped(), pixel=0.002)
        line = Line(image.space.to_world((10, 30, 0)), image.space.to_world((100, 30, 0)), 0.04)
        curve = curve_of(section_of(image, line), image, line)
        with_noise = read_sections([curve], 0.02, 0.1, image=image).column("difference_uncertainty")[0]
        lines = section_of(image, line).lines.shape[1]
        self.assertAlmostEqual(with_noise / (1.96 * 0.5 * np.sqrt(2 / lines)), 1, delta=0.5)
        both = read_sections([curve], 0.02, 0.1, image=image, calibration=10, calibration_of_lengths=2)
        of_scale = 1.96 * 0.1 * abs(both.column("difference")[0])
        self.assertAlmostEqual(both.column("difference_uncertainty")[0], np.hypot(with_noise, of_scale))
        self.assertAlmostEqual(both.column("along_uncertainty")[0], 1.96 * 0.02 * 0.08)
        elsewhere = image.like(image.kji.T, name="another")
        self.assertIsNone(read_sections([curve], 0.02, 0.1, image=elsewhere).column("difference_uncertainty")[0])


class SectionsDeskTest(DeskCase):
    def setUp(self):
        super().setUp()
        save_image(self.place / "map.x3p", height_map(stepped(), pixel=0.002))
        save_image(self.place / "other.x3p", height_map(stepped() * 0 + 5, pixel=0.002))
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=self.place / "map.x3p")
            study.run("gather", folder=self.place / "other.x3p")
        self.window = self.open(self.place / "study")
        self.desk, self.sections = self.window.desk, self.window.desk.sections
        self.map, self.other = (r.id for r in self.desk.study.records())
        self.show_image(self.map)
        self.desk.viewing.set_stage("Measure")
        self.window.drawer.open_page("sections")
        self.settle(self.window)
        self.page = self.window.drawer.sections
        self.press(self.page.draw)
        self.canvas = self.window.table.working.canvas

    def show_image(self, key):
        self.desk.viewing.show_image(key)
        self.settle(self.window)

    def at(self, i, j):
        return self.desk.viewing.record.grid.to_world((i, j, 0))

    def begin(self, start, *others, modifiers=Qt.KeyboardModifier.NoModifier):
        """Press at a point of the map, and move over others with a key held."""
        QTest.mousePress(self.canvas, Qt.MouseButton.LeftButton, pos=self.pixel(self.canvas, self.at(*start)))
        for point in others:
            at = QPointF(self.pixel(self.canvas, self.at(*point)))
            where = QPointF(self.canvas.mapToGlobal(at))
            left = Qt.MouseButton.LeftButton
            QApplication.sendEvent(
                self.canvas, QMouseEvent(QEvent.Type.MouseMove, at, where, Qt.MouseButton.NoButton, left, modifiers)
            )

    def draw(self, start, *others, **more):
        self.begin(start, *others, **more)
        QTest.mouseRelease(self.canvas, Qt.MouseButton.LeftButton, pos=self.pixel(self.canvas, self.at(*others[-1])))
        self.settle(self.window)

    def test_drawn_read_and_moved(self):
        self.draw((10, 30), (40, 30), (100, 30))
        line = self.sections.line
        np.testing.assert_allclose(line.start, self.at(10, 30), atol=0.002)
        np.testing.assert_allclose(line.end, self.at(100, 30), atol=0.002)
        image = self.desk.viewing.image
        np.testing.assert_allclose(self.sections.live.values, section_of(image, line).values)
        shares = [c / line.length for c in self.sections.cursors]
        np.testing.assert_allclose(shares, (1 / 3, 2 / 3))
        told = dict(self.page.told())
        self.assertIn("µm", told["along"])
        self.assertIn("nm", told["height"])
        self.draw((100, 30), (100, 50))  # an end
        np.testing.assert_allclose(self.sections.line.start, line.start)
        np.testing.assert_allclose(self.sections.line.end, self.at(100, 50), atol=0.002)
        middle = (55, 40)
        self.draw(middle, (55, 35))  # the whole
        np.testing.assert_allclose(
            np.subtract(self.sections.line.start, line.start), self.at(0, -5) - self.at(0, 0), atol=0.002
        )
        self.draw((20, 60), (60, 61), (90, 63), modifiers=Qt.KeyboardModifier.ShiftModifier)  # straight
        self.assertAlmostEqual(self.sections.line.start[1], self.sections.line.end[1])

    def test_cursors_are_typed_and_dragged(self):
        self.draw((10, 30), (100, 30))
        self.page.cursors[0].setValue(20.0)
        self.page.cursors[1].setValue(100.0)
        np.testing.assert_allclose(self.sections.cursors, (0.02, 0.1))
        reading = self.sections.reading
        expected = self.sections.live.values
        places = self.sections.live.places()
        self.assertAlmostEqual(reading.difference, np.interp(0.1, places, expected) - np.interp(0.02, places, expected))
        self.page.plot.marks[1].setValue(140.0)
        self.assertAlmostEqual(self.sections.cursors[1], 0.14)
        self.page.cursors[1].setValue(9999.0)
        self.assertAlmostEqual(self.sections.cursors[1], self.sections.live.places()[-1])
        self.assertTrue(np.isnan(self.sections.reading.unsure.difference))
        self.assertNotIn("±", dict(self.page.told())["height"])
        self.page.width.setValue(20.0)
        self.settle(self.window)
        self.assertEqual(self.sections.line.width, 0.02)
        found = self.sections.found.lines
        self.assertGreater(found.shape[1], 5)
        self.assertIn("±", dict(self.page.told())["height"])

    def test_kept_compared_and_measured(self):
        self.draw((5, 30), (105, 30))
        self.page.width.setValue(40.0)
        self.settle(self.window)
        self.press(self.page.keep)
        self.draw((5, 50), (105, 20))
        self.press(self.page.keep)
        self.settle(self.window)
        first, second = self.sections.held()
        self.assertEqual([first[1].name, second[1].name], ["Section 1", "Section 2"])
        self.assertNotEqual(first[1].colour, second[1].colour)
        self.assertEqual(len(self.page.rows), 2)
        self.assertEqual(set(self.page.plot.lines), {0, first[0], second[0]})
        self.assertEqual(self.window.drawer.courses.rows, [])  # they are no courses
        self.page.rows[0].shown.click()
        self.assertEqual(set(self.page.plot.lines), {0, second[0]})
        self.sections.choose(first[0])
        self.assertEqual(self.sections.read.name, "Section 1")
        tables = []
        self.desk.session.table_made.connect(tables.append)
        self.sections.step_height(first[0])
        self.settle(self.window)
        self.assertEqual(self.troubles, [])
        row = tables[-1].rows[0]
        self.assertEqual(row[0], "depth of the groove")
        self.assertAlmostEqual(row[1], 80, delta=max(row[2], 0.5))
        self.window.drawer.open_page("sections")
        self.sections.choose(0)
        self.press(self.page.step)
        self.settle(self.window)
        self.assertEqual(len(self.sections.step.used), 3)
        self.window.drawer.open_page("sections")
        self.settle(self.window)
        self.assertEqual(len(self.page.plot.bands), 3)
        self.assertIn("step", dict(self.page.told()))
        self.sections.read_all()
        self.settle(self.window)
        self.assertEqual([r[0] for r in tables[-1].rows], ["Section 2"])
        self.page.save_csv(self.place / "out")
        self.assertEqual(len(read_csv(self.place / "out.csv").columns), 3)
        self.desk.session.undo()
        self.desk.session.undo()
        self.assertEqual(self.troubles, [])

    def test_calibration_counts_in_what_is_told(self):
        self.draw((10, 30), (100, 30))
        self.assertNotIn("±", dict(self.page.told())["along"])
        self.page.sure.heights.setValue(5.0)
        self.page.sure.lengths.setValue(2.0)
        told, reading = dict(self.page.told()), self.sections.reading
        self.assertTrue(all("±" in told[words] for words in ("along", "straight", "height", "slope", "angle")))
        self.assertAlmostEqual(reading.unsure.along, 1.96 * 0.02 * reading.along)
        self.assertAlmostEqual(reading.unsure.difference, 1.96 * 0.05 * abs(reading.difference))
        self.assertIn("heights 5 %, lengths 2 %", self.page.sure.toolTip())
        tables = []
        self.desk.session.table_made.connect(tables.append)
        self.press(self.page.step)
        self.settle(self.window)
        self.assertIn("calibration (standard)", [row[0] for row in tables[-1].rows])
        self.window.drawer.open_page("sections")
        self.settle(self.window)
        self.assertIn(f"{tables[-1].rows[0][2]:.1f}", dict(self.page.told())["step"])
        self.press(self.page.keep)
        self.settle(self.window)
        self.sections.read_all()
        self.settle(self.window)
        self.assertAlmostEqual(tables[-1].column("along_uncertainty")[0], reading.unsure.along)
        self.assertEqual(self.troubles, [])

    def test_it_stays_on_its_voxels_when_the_map_is_renamed_and_placed_elsewhere(self):
        self.draw((10, 30), (100, 30))
        self.sections.keep("Kept")
        self.settle(self.window)
        (key,) = (k for k, _ in self.sections.held())
        values, share = self.sections.live.values.copy(), self.sections.cursors[0] / self.sections.line.length
        self.desk.session.run("rename", {"thing": self.map, "name": "Enamel, mended"})
        self.desk.session.run("set-origin", {"image": self.map, "point": tuple(map(float, self.at(20, 20)))})
        self.settle(self.window)
        self.desk.session.run("set-spacing", {"image": self.map, "spacing": (0.004, 0.004, 1.0)})
        self.settle(self.window)
        np.testing.assert_allclose(self.sections.line.start, self.at(10, 30), atol=0.008)
        np.testing.assert_allclose(self.sections.line.end, self.at(100, 30), atol=0.008)
        np.testing.assert_allclose(self.sections.live.values, values, atol=1e-3)
        self.assertAlmostEqual(self.sections.cursors[0] / self.sections.line.length, share)
        self.assertEqual([c.name for c in self.sections.on_lead()], ["Kept"])
        np.testing.assert_allclose(self.sections.on_lead()[0].mark.array, self.sections.mark.array, atol=1e-9)
        self.sections.step_height(key)
        self.settle(self.window)
        table = self.window.drawer.results.table
        height = next(row[1] for row in table.rows if row[0] == "depth of the groove")
        self.assertAlmostEqual(height, 80, delta=2)
        self.assertEqual(self.troubles, [])
        self.desk.session.undo()
        self.desk.session.undo()
        self.settle(self.window)
        np.testing.assert_allclose(self.sections.on_lead()[0].mark.array, self.sections.mark.array, atol=1e-9)

    def test_undo_takes_the_kept_one_away_and_a_second_window_shows_it(self):
        self.draw((5, 30), (105, 30))
        self.press(self.page.keep)
        self.settle(self.window)
        key = self.sections.held()[0][0]
        self.sections.choose(key)
        self.desk.session.undo()
        self.settle(self.window)
        self.assertEqual((self.sections.held(), self.sections.chosen, self.page.rows), ([], 0, []))
        self.desk.session.redo()
        self.settle(self.window)
        self.sections.rename(key, "<b>=1+1</b>")
        self.window.close()
        with Study(self.place / "study") as study:
            self.assertEqual([c.name for _, c in study.curves()], ["<b>=1+1</b>"])

    def test_things_happen_in_the_middle_of_a_drag(self):
        self.draw((5, 30), (105, 30))
        line = self.sections.line
        self.begin((20, 60), (60, 10))
        QTest.keyClick(self.canvas, Qt.Key.Key_Escape)
        self.assertEqual(self.sections.line, line)
        for happening in (
            lambda: self.show_image(self.other),
            lambda: self.show_image(self.map),
            lambda: self.desk.viewing.set_stage("Gather"),
            lambda: self.desk.viewing.set_stage("Measure"),
            self.desk.session.undo,
            lambda: self.window.set_theme("dusk"),
            lambda: self.window.set_theme("mist"),
            lambda: self.window.drawer.open_page("logbook"),
            lambda: self.window.drawer.open_page("sections"),
        ):
            self.desk.hand.set_tool("section")
            self.begin((20, 60), (60, 10))
            happening()
            QTest.mouseRelease(self.canvas, Qt.MouseButton.LeftButton)
            self.settle(self.window)
            self.canvas.render_pixels()
            self.canvas.grab()
        self.show_image(self.other)
        self.sections.clear()
        self.assertIsNone(self.sections.line)
        self.show_image(self.map)
        self.assertIsNotNone(self.sections.line)  # each image has a line of its own
        self.assertEqual(self.troubles, [])

    def test_what_cannot_be_measured_is_said(self):
        self.sections.keep()
        self.assertIn("drag one", self.troubles[-1])
        self.sections.read_all()
        self.assertIn("No section is kept", self.troubles[-1])
        self.draw((5, 30), (105, 30))
        self.press(self.page.keep)
        self.settle(self.window)
        key = self.sections.held()[0][0]
        self.show_image(self.other)
        self.sections.step_height(key)
        self.assertIn("choose that image first", self.troubles[-1])
        self.draw((5, 30), (105, 30))
        self.sections.step_height()
        self.settle(self.window)
        self.assertIn("no step", self.troubles[-1])
        self.begin((30, 55), (30, 55))
        self.assertIn("shorter than a voxel", self.page.said.text())
        QTest.mouseRelease(self.canvas, Qt.MouseButton.LeftButton, pos=self.pixel(self.canvas, self.at(30, 55)))

    def test_by_key(self):
        self.window.drawer.hide()
        self.desk.hand.set_tool("point")
        self.canvas.setFocus()
        QTest.keyClick(self.canvas, Qt.Key.Key_D)
        self.assertEqual((self.window.drawer.page, self.desk.hand.tool), ("sections", "section"))
        self.assertTrue(self.page.draw.isChecked())
        self.window.drawer.hide()
        self.assertEqual(self.desk.hand.tool, "point")
        self.assertFalse(self.sections.watched)

    def test_a_line_in_a_plane_of_a_volume(self):
        self.assertTrue(self.sections.lies_in(self.canvas.current_view()))
        self.draw((5, 30), (105, 30))
        view = self.canvas.current_view()
        self.assertTrue(self.sections.lies_in(view))
        self.assertFalse(self.sections.lies_in(view.moved(centre=(view.centre[0], view.centre[1], view.centre[2] + 5))))
        self.assertEqual(self.sections.line, Line(self.sections.line.start, self.sections.line.end, 0.0))
