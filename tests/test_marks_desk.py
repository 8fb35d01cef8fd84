"""Drawing marks by hand: every shape, handles, keys, typed values, and gestures that something interrupts."""

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from kestrelmist.core.geometry.mark import Mark
from kestrelmist.core.geometry.marks import MarkEdit
from kestrelmist.core.geometry.shape import shape_named
from kestrelmist.desk.tool import TOOLS, tool_named
from tests.desk_case import pause
from tests.drawing_case import LEFT, NONE, DrawingCase

SHIFT = Qt.KeyboardModifier.ShiftModifier


class MarksDeskTest(DrawingCase):
    def test_every_shape_is_drawn_where_the_hand_was(self):
        self.desk.hand.set_tool("mark-point")
        self.press(-50, -60)
        self.assertTrue(np.allclose(self.drawn()[0].points[0], self.world(-50, -60)))
        drags = {"line": ((90, -90), (60, -20)), "rectangle": ((10, 30), (60, 90)), "ellipse": ((-20, 30), (-60, 80))}
        for tool, (start, corner) in drags.items():
            self.desk.hand.set_tool(f"mark-{tool}")
            self.draw(start, corner)
            mark = self.drawn()[-1]
            self.assertEqual(mark.shape, tool)
            whole = np.vstack((mark.outline.min(0), mark.outline.max(0)))
            ends = np.array((self.world(*start), self.world(*corner)))
            self.assertTrue(np.allclose(np.sort(whole, 0), np.sort(ends, 0), atol=0.02), f"{tool} {whole} {ends}")
            self.assertEqual(self.marks.chosen, mark.id)
            self.marks.choose(None)
        self.desk.hand.set_tool("mark-polygon")
        corners = ((-90, -90), (-60, -95), (-55, -70))
        for place in corners:
            self.press(*place)
        self.key(Qt.Key.Key_Return)
        self.assertTrue(np.allclose(self.drawn()[-1].points, [self.world(*p) for p in corners]))
        self.assertEqual([m.shape for m in self.drawn()], ["point", "line", "rectangle", "ellipse", "polygon"])
        self.assertEqual(len(self.study.marks.of(self.viewing.record.id)), 1)
        normals = {tuple(np.abs(np.round(m.normal, 9))) for m in self.drawn()[1:]}
        self.assertEqual(len(normals), 1)  # the plane of the pane
        self.assertIsNone(self.drawn()[0].normal)
        self.assertEqual(self.troubles, [])

    def test_shift_keeps_straight_and_square(self):
        self.desk.hand.set_tool("mark-line")
        self.draw((0, 0), (70, 8), SHIFT)
        ends = np.array(self.drawn()[0].points)
        self.assertEqual(int((np.abs(np.diff(ends, axis=0)) > 1e-9).sum()), 1)
        self.desk.hand.set_tool("mark-rectangle")
        self.draw((-90, 20), (-50, 90), SHIFT)
        sizes = shape_named("rectangle").sizes(self.drawn()[1].array)
        self.assertAlmostEqual(sizes["width"], sizes["height"])

    def test_handles_lines_and_keys_move_what_is_there(self):
        self.desk.hand.set_tool("mark-rectangle")
        self.draw((-60, -60), (60, 40))
        before = self.drawn()[0]
        self.draw((60, 40), (80, 70))  # a corner
        sizes = [shape_named("rectangle").sizes(m.array) for m in (before, self.drawn()[0])]
        pixel = self.canvas.current_view().pixel
        self.assertAlmostEqual(sizes[1]["width"] - sizes[0]["width"], 20 * pixel, delta=pixel)
        self.draw((-20, -60), (-10, -50))  # its line: all of it
        moved = self.drawn()[0].array - self.world(0, 0)
        self.assertEqual(len(self.drawn()), 1)
        middle = self.drawn()[0].middle
        self.key(Qt.Key.Key_Right)
        self.assertAlmostEqual(float(np.linalg.norm(self.drawn()[0].middle - middle)), pixel)
        self.key(Qt.Key.Key_Down, SHIFT)
        self.assertAlmostEqual(float(np.linalg.norm(self.drawn()[0].middle - middle)), np.hypot(1, 10) * pixel)
        self.assertEqual(moved.shape, (4, 3))
        self.key(Qt.Key.Key_Delete)
        self.assertEqual(self.drawn(), [])
        for _ in range(6):
            self.desk.undoing.undo()
        self.assertEqual(self.drawn(), [])
        self.assertIsNone(self.study.history.to_undo(self.marks.key))
        self.desk.undoing.redo()
        self.assertEqual(self.drawn()[0], before)

    def test_a_polygon_goes_on_until_it_is_ended(self):
        self.desk.hand.set_tool("mark-polygon")
        for place in ((0, 0), (50, 0), (50, 50), (0, 50)):
            self.press(*place)
        self.key(Qt.Key.Key_Backspace)
        self.press(2, 3)  # the first point again closes it
        self.assertEqual([len(m.points) for m in self.drawn()], [3])
        self.marks.choose(None)
        self.press(-90, -90)
        self.press(-40, -90)
        self.key(Qt.Key.Key_Escape)
        self.assertEqual((len(self.drawn()), self.marks.live, self.desk.hand.gesture), (1, None, None))
        for place in ((-90, -90), (-40, -90), (-40, -40)):
            self.press(*place)
        QTest.mouseDClick(self.canvas, LEFT, NONE, self.at(-40, -40))
        self.assertEqual([len(m.points) for m in self.drawn()], [3, 3])
        self.desk.hand.set_tool("mark-polyline")
        self.press(90, -90)
        self.press(60, -60)
        self.viewing.set_stage("Outline")  # what was drawn is kept
        self.assertEqual([m.shape for m in self.drawn()], ["polygon", "polygon", "polyline"])

    def test_what_interrupts_a_gesture(self):
        record = self.viewing.record
        self.desk.hand.set_tool("mark-rectangle")
        self.draw((-60, -60), (60, 40), let_go=False)
        self.key(Qt.Key.Key_Escape)
        self.assertEqual((self.drawn(), self.marks.live), ([], None))
        self.draw((-60, -60), (60, 40), let_go=False)
        self.desk.undoing.undo()  # ends the gesture, and takes it back
        QTest.mouseRelease(self.canvas, LEFT, NONE, self.at(0, 0))
        self.assertEqual(self.drawn(), [])
        self.draw((-60, -60), (60, 40), let_go=False)
        self.desk.hand.set_tool("point")
        self.assertEqual(len(self.drawn()), 1)
        # other marks are taken in hand while one is moved: it stays where it was begun
        first = self.marks.key
        self.study.run("take-marks", image=record.id, file=str(self.csv()), unit="mm", name="Others")
        self.settle(self.window)
        self.assertNotEqual(self.marks.key, first)
        self.marks.take_in_hand(first)
        self.settle(self.window)
        self.desk.hand.set_tool("mark-rectangle")
        self.draw((60, 40), (90, 90), let_go=False)
        self.study.marks.choose(record.id, self.study.marks.of(record.id)[-1].id)
        self.desk.hand.end_gesture()
        self.assertEqual(len(self.study.marks.open(first)), 1)
        self.assertEqual(len(self.study.marks.open(self.study.marks.in_hand(record.id))), 2)
        # somebody else adds one meanwhile: both stay; somebody else moves the very same: that is said
        self.study.marks.take_in_hand(first)
        self.settle(self.window)
        self.marks.choose(None)
        self.draw((-95, 60), (-70, 95), let_go=False)
        theirs = MarkEdit.adding("x", self.study.marks.open(first), [Mark("point", ((0, 0, 0),))])
        self.study.marks.keep_edit(first, theirs, end_gesture=False)
        self.desk.hand.end_gesture()
        self.assertEqual([m.shape for m in self.study.marks.open(first)], ["rectangle", "point", "rectangle"])
        self.assertEqual(self.troubles, [])

    def csv(self):
        path = self.place / "m.csv"
        path.write_text("x,y,z\n1,1,1\n2,2,2\n")
        return path

    def test_typed_values_and_the_list(self):
        self.desk.hand.set_tool("mark-rectangle")
        self.draw((-60, -60), (60, 40))
        group = self.window.bench.page("Measure").groups["marks"]
        self.assertTrue(group.card.isVisible())
        middle = self.drawn()[0].middle
        self.type_into(group.sizes["width"], "3.25")
        self.assertAlmostEqual(shape_named("rectangle").sizes(self.drawn()[0].array)["width"], 3.25)
        self.assertTrue(np.allclose(self.drawn()[0].middle, middle))
        self.type_into(group.places[0], "-1.5")
        self.assertAlmostEqual(self.drawn()[0].middle[0], -1.5)
        group.name.setText("<b>window</b> =1+1")
        group.name.editingFinished.emit()
        self.assertEqual(self.drawn()[0].name, "<b>window</b> =1+1")
        self.type_into(group.cls, "7")
        self.assertEqual(self.drawn()[0].cls, 7)
        self.window.toggle_drawer("marks")
        self.settle(self.window)
        page = self.window.drawer.marks
        self.assertEqual(page.model.rowCount(), 1)
        self.assertEqual(page.model.index(0, 1).data(), "<b>window</b> =1+1")
        self.marks.choose(None)
        self.viewing.go_to((5, 5, 5))
        page.view.clicked.emit(page.model.index(0, 0))
        self.assertEqual(self.marks.chosen, 1)
        self.assertTrue(np.allclose(self.viewing.crosshair, self.drawn()[0].middle))
        page.save_as(self.place / "out")
        self.settle(self.window)
        self.assertIn('"window', (self.place / "out.geojson").read_text().replace("<b>", ""))
        page.view.selectRow(0)
        page.delete_chosen()
        self.settle(self.window)
        self.assertEqual((self.drawn(), page.model.rowCount()), ([], 0))
        self.assertFalse(group.card.isVisible())
        self.assertEqual(self.troubles, [])

    def type_into(self, field, text: str) -> None:
        field.setFocus()
        field.lineEdit().selectAll()
        QTest.keyClicks(field.lineEdit(), text)
        QTest.keyClick(field.lineEdit(), Qt.Key.Key_Return)
        pause(20)

    def test_panes_show_what_lies_in_their_slice(self):
        self.desk.hand.set_tool("mark-line")
        self.draw((-40, 0), (40, 0))
        self.marks.choose(None)
        plain = self.count(self.canvas)
        self.assertGreater(plain, 60)
        self.viewing.step(self.canvas.plane.across, 3)
        pause(50)
        self.assertLess(self.count(self.canvas), 20)
        self.viewing.step(self.canvas.plane.across, -3)
        pause(50)
        self.assertAlmostEqual(self.count(self.canvas), plain, delta=5)
        self.window.drawer.marks.shown.setChecked(False)
        pause(50)
        self.assertLess(self.count(self.canvas), 20)
        self.draw((0, 60), (20, 60))  # who draws sees them again
        self.assertTrue(self.window.drawer.marks.shown.isChecked())
        self.marks.choose(None)
        pause(50)
        self.assertAlmostEqual(self.count(self.canvas), plain, delta=5)

    def count(self, canvas) -> int:
        """Pixels in the colour of marks, in the middle of a pane."""
        image = canvas.grab().toImage()
        wide, high = image.width() // 2, image.height() // 2
        found = [image.pixelColor(x, y) for x in range(wide - 45, wide + 45) for y in range(high - 8, high + 8)]
        return sum(c.red() - c.blue() > 70 for c in found)

    def test_tools_are_found_and_offered_where_they_serve(self):
        names = [t.name for t in TOOLS if t.name.startswith("mark-")]
        wanted = ["point", "line", "polyline", "polygon", "rectangle", "ellipse", "angle", "lines-angle", "circle"]
        wanted += ["freehand", "arrow", "text", "highlight", "scale-bar"]
        self.assertEqual(names, [f"mark-{n}" for n in wanted])
        self.desk.hand.set_tool("mark-line")
        self.viewing.set_stage("Gather")
        self.assertEqual(self.desk.hand.tool, "point")
        self.assertEqual(tool_named("mark-line").stages, ("Align", "Outline", "Measure", "Report"))
