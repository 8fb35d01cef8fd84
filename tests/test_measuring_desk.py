"""Measuring by hand: what marks tell in the window, lines that calibrate, and the scale in use."""

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QPushButton

from kestrelmist.core.image import Image
from kestrelmist.core.operation import find_operation
from kestrelmist.core.scale import scale_of
from kestrelmist.core.space import picture_space
from kestrelmist.demo.stage_ruler import ruler_picture
from kestrelmist.desk.bench.companions.calibrate import DrawnLines
from kestrelmist.scene.primitives import Panel, Words
from kestrelmist.study.journal.stages_done import StagesDone
from tests.drawing_case import LEFT, NONE, DrawingCase
from tests.making import keep_thing

TRUE = 0.0005


class MarksTellTest(DrawingCase):
    @property
    def group(self):
        return self.window.bench.page("Measure").groups["marks"]

    def chips(self) -> list[str]:
        """The words in chips over the lead pane."""
        drawn = self.marks.drawn(self.canvas.current_view())
        found, words = [], []
        for one in drawn:
            if isinstance(one, Panel):
                found.append("".join(words))
                words = []
            elif isinstance(one, Words) and one.weight == "figures":
                words.append(one.text)
        return [text for text in [*found, "".join(words)] if text]

    def test_a_line_tells_its_length_while_and_after_it_is_drawn(self):
        self.desk.hand.set_tool("mark-line")
        self.draw((-40, 0), (60, 0), let_go=False)
        pixel = self.canvas.current_view().pixel
        (chip,) = self.chips()
        self.assertAlmostEqual(float(chip.split(" ")[0]), 100 * pixel, delta=0.02 * 100 * pixel)
        QTest.mouseRelease(self.canvas, LEFT, NONE, self.at(60, 0))
        (mark,) = self.drawn()
        spread = np.hypot(0.5 / np.sqrt(12), pixel)  # a voxel, and a pixel of the pane
        self.assertAlmostEqual(mark.sure, spread, places=9)
        self.assertIn("Length", self.group.measures.text())
        self.assertIn(" ± ", self.group.measures.text())
        self.assertIn("by header", self.group.scale.text())
        self.press_widget(self.group.numbers)
        self.assertEqual(self.chips(), [])

    def press_widget(self, widget) -> None:
        widget.click()
        self.settle(self.window)

    def test_new_shapes_are_drawn_and_measured_into_a_table(self):
        for tool, places in (
            ("angle", ((-60, 0), (0, 0), (0, -60))),
            ("lines-angle", ((20, 20), (60, 20), (20, 60), (60, 60))),
            ("circle", ((-40, 60), (-60, 40), (-80, 60))),
        ):
            self.desk.hand.set_tool(f"mark-{tool}")
            for place in places:
                self.press(*place)
            self.marks.choose(None)
        self.desk.hand.set_tool("mark-freehand")
        self.drag(((-90, -90), (-50, -60), (-20, -90)))
        self.marks.choose(None)
        self.desk.hand.set_tool("mark-text")
        self.press(80, -80)
        self.group.text.setText("here")
        self.group.text.editingFinished.emit()
        shapes = [mark.shape for mark in self.drawn()]
        self.assertEqual(shapes, ["angle", "lines-angle", "circle", "freehand", "text"])
        self.assertEqual(self.drawn()[-1].text, "here")
        self.window.bench.page("Measure").marks.click()
        self.settle(self.window)
        table = self.window.drawer.results.table
        angles = table.column("angle")
        self.assertAlmostEqual(angles[0], 90, delta=3)
        self.assertAlmostEqual(angles[1], 0, delta=3)
        pixel = self.canvas.current_view().pixel
        self.assertAlmostEqual(table.column("diameter")[2], 40 * pixel, delta=4 * pixel)
        self.assertAlmostEqual(table.column("length")[3], (50 + np.hypot(30, 30)) * pixel, delta=6 * pixel)
        self.assertEqual(self.troubles, [])

    def test_colour_width_and_the_list(self):
        self.desk.hand.set_tool("mark-line")
        self.draw((-40, 0), (60, 0))
        self.assertEqual(StagesDone(self.study).of(self.viewing.record), {"gather", "measure"})
        self.group.look.width_field.setValue(4.0)
        self.assertEqual(self.drawn()[0].width, 4.0)
        self.window.toggle_drawer("marks")
        self.settle(self.window)
        page = self.window.drawer.marks
        headings = [column.name for column in page.model.table.columns]
        self.assertIn("length ", page.model.index(0, headings.index("measures")).data())


class CalibratingTest(DrawingCase):
    def setUp(self):
        super().setUp()
        drawn = ruler_picture(TRUE, size=(640, 480), mark=0.002)
        values = np.asfortranarray(np.rint(drawn).astype(np.uint8).T[:, :, None])
        self.ruler = keep_thing(self.study, Image(values, picture_space(640, 480, None), "Ruler", "T-1"))
        self.desk.session.shelf_changed.emit()
        self.viewing.show_image(self.ruler)
        self.viewing.set_stage("Measure")
        self.settle(self.window)

    def pixels(self, u: float, v: float) -> tuple[int, int]:
        """Where a column and row of the ruler lies, from the middle of the lead pane."""
        canvas = self.canvas = self.window.table.lead.canvas
        x, y = canvas.current_view().to_pixel(self.viewing.record.grid.to_world((u, v, 0)))
        return round(x) - canvas.width() // 2, round(y) - canvas.height() // 2

    def over_ten_marks(self, row: float) -> None:
        """A line from the left side of one mark to that of the tenth after it, about."""
        self.draw(self.pixels(319.5 - 100 - 2, row), self.pixels(319.5 + 100 - 2, row))

    def test_lines_fill_the_form_and_tell_the_pixel_at_once(self):
        page = self.window.bench.page("Measure")
        self.assertIn("No scale", page.scale.text())
        page.calibrate.click()
        self.settle(self.window)
        form = page.form
        (lines,) = form.findChildren(DrawnLines)
        lines.draw.click()
        self.over_ten_marks(240)
        self.over_ten_marks(230)
        form.fields["length"].setText("100 um")
        form.fields["name"].setText("Ten")
        self.settle(self.window)
        self.assertEqual(lines.counted.text(), "2 lines drawn.")
        self.assertRegex(lines.told.text(), r"^0\.(499|500)\d* ± 0\.000\d+ µm a pixel")
        QTest.keyClick(self.canvas, Qt.Key.Key_Delete)  # the second one was no good
        self.settle(self.window)
        self.assertEqual((lines.counted.text(), form.fields["repeat"].text()), ("1 line drawn.", ""))
        next(b for b in form.findChildren(QPushButton) if b.text() == "Do it").click()
        self.settle(self.window)
        (record,) = self.study.items.of_kind("calibration")
        made = self.study.thing(record.id)
        self.assertAlmostEqual(made.right / TRUE, 1, delta=1e-3)
        page.close_form()
        page.use.click()
        self.settle(self.window)
        next(b for b in page.form.findChildren(QPushButton) if b.text() == "Do it").click()
        self.settle(self.window)
        self.assertEqual(scale_of(self.viewing.record).calibration, "Ten")
        self.assertIn("by calibration “Ten”", page.scale.text())
        self.assertAlmostEqual(self.drawn()[0].length, 0.1, delta=0.002)  # marks stay on their pixels
        self.desk.undoing.undo()
        self.settle(self.window)
        self.assertIn("No scale", page.scale.text())
        self.assertEqual(self.troubles, [])

    def test_another_image_between_two_lines(self):
        page = self.window.bench.page("Measure")
        page.open(find_operation("calibrate"))
        self.settle(self.window)
        (lines,) = page.form.findChildren(DrawnLines)
        lines.draw.click()
        self.over_ten_marks(240)
        self.settle(self.window)
        self.assertEqual(len(lines.lines), 1)
        self.viewing.show_image(self.study.find("Two balls").id)
        self.settle(self.window)
        self.assertEqual(lines.lines, [])

    def test_ends_are_snapped_to_edges(self):
        self.desk.hand.set_tool("mark-line")
        self.draw(self.pixels(319.5 - 5, 240), self.pixels(319.5 + 6, 240))  # across one mark, four pixels wide
        group = self.window.bench.page("Measure").groups["marks"]
        self.assertTrue(group.snap.isVisible())
        group.snap.click()
        self.settle(self.window)
        (mark,) = self.drawn()
        self.assertAlmostEqual(mark.length, 4.0, delta=0.1)
        self.assertLess(mark.sure, 0.1)
