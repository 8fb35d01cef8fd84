"""The grid of pictures with their boxes: opened from the form, filtered, paged, corrected, remembered, saved."""

import os
import shutil
import tempfile
from pathlib import Path
from unittest import mock

import numpy as np
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtTest import QTest

from kestrelmist.core.errors import Trouble
from kestrelmist.core.operation import find_operation
from kestrelmist.demo.many_radiographs import shot, write_radiographs
from kestrelmist.desk.models.collection import ALL, NONE, PAGE, UNNAMED
from kestrelmist.desk.pictures.grid import ENTRY, class_colour
from kestrelmist.desk.pictures.one_picture import LARGE
from kestrelmist.formats.table_files import read_csv
from kestrelmist.prepare.sets.box_columns import as_said, guessed
from kestrelmist.prepare.sets.box_table import Box, box_in, read_boxes
from kestrelmist.study.study import Study
from tests.desk_case import DeskCase, pause
from tests.making import PlaceCase


class DemoTest(PlaceCase):
    def test_boxes_lie_round_what_they_name(self):
        for animal in range(1, 13):
            made = shot(animal)
            values = 4095.0 - made.values if made.turned else made.values.astype(float)
            for label, *ends in made.boxes:
                left, top, right, bottom = (round(v) for v in ends)
                self.assertTrue(0 <= left < right <= values.shape[1] and 0 <= top < bottom <= values.shape[0])
                if label == "transponder":
                    inside = values[top:bottom, left:right]
                    self.assertGreater(inside.max(), 1.2 * np.median(inside))
        self.assertTrue(np.array_equal(shot(3).values, shot(3).values))
        self.assertFalse(
            np.array_equal(shot(3).values.shape, shot(4, 9).values.shape) and (shot(3).values == shot(4).values).all()
        )

    def test_files_and_table(self):
        table = write_radiographs(self.place, 11, workers=1)
        found = read_boxes(table)
        self.assertEqual(len({row.picture for row in found.rows}), 12)  # the tenth was taken twice
        self.assertEqual(len({row.subject for row in found.rows}), 11)
        self.assertEqual(found.problems, [])
        first = {p: p.stat().st_mtime_ns for p in (self.place / "pictures").rglob("*.dcm")}
        write_radiographs(self.place, 11, workers=1)
        self.assertEqual(first, {p: p.stat().st_mtime_ns for p in (self.place / "pictures").rglob("*.dcm")})


class ColumnsTest(PlaceCase):
    def test_said_as_it_is_read(self):
        heads = ["File", "File", "a, b", "#1", "", 'say "x"', "name=y", "Animal", "left", "top", "w", "h"]
        chosen = {"picture": 1, "class": 2, "part": 3, "subject": 6, "a": 8, "b": 9, "c": 4, "d": 5}
        self.assertEqual(guessed(heads, as_said(chosen, heads)).where, chosen)
        self.assertEqual(as_said({"picture": 0, "subject": None}, ["file", "animal"]), "picture=file, subject=")
        self.assertEqual(guessed(["file", "animal"], "subject=").where, {"picture": 0})
        self.assertEqual(guessed(["file", "animal"], "subject=#1").where["subject"], 0)
        for words, said in (("no column “#3”", "picture=#3"), ("what it is", "picture"), ("what it is", "size=file")):
            with self.assertRaisesRegex(Trouble, words):
                guessed(["file", "animal"], said)


class PicturesTest(DeskCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        holder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(holder.cleanup)
        cls.made = Path(holder.name) / "xr"
        write_radiographs(cls.made, 9, workers=1)

    def setUp(self):
        super().setUp()
        shutil.copytree(self.made, self.place / "xr")
        self.table = self.place / "xr" / "boxes.csv"
        text = self.table.read_text()
        more = "none.dcm,GX-900,heart,1,2,30,40,560,760\nbad.dcm,GX-901,,,,,,,\n"
        self.table.write_text(text + more)
        (self.place / "xr" / "pictures" / "bad.dcm").write_bytes(b"no picture")
        Study(self.place / "study", create=True).close()
        self.window = self.open(self.place / "study")
        self.collection, self.page = self.window.desk.collection, self.window.pictures
        self.look()

    def look(self):
        self.window.desk.viewing.set_stage("Prepare")
        self.form = self.window.bench.page("Prepare").open(find_operation("picture-set"))
        for name, value in (
            ("table", self.table),
            ("folder", self.place / "xr" / "pictures"),
            ("to", self.place / "set"),
        ):
            self.form.fields[name].field.setText(str(value))
        self.press(self.form.companion.button)
        self.settle(self.window)

    def test_columns_are_guessed_shown_and_chosen(self):
        columns, pause_for = self.form.companion.columns, lambda: (pause(300), self.settle(self.window))
        pause_for()
        shown = {role: choice.currentText() for role, choice in columns.lists.items()}
        self.assertEqual((shown["picture"], shown["class"], shown["subject"]), ("file", "class", "animal"))
        self.assertEqual([shown[k] for k in "abcd"], ["xmin", "ymin", "xmax", "ymax"])
        self.assertEqual(columns.rows.labelForField(columns.lists["c"]).text(), "Right")
        subject = columns.lists["subject"]
        subject.setCurrentIndex(subject.findText("class"))
        subject.activated.emit(subject.currentIndex())
        pause_for()
        self.assertEqual(self.form.values()["columns"], "subject=class")
        self.assertIn("subject: class", self.collection.heads)  # the open grid follows
        subject.setCurrentIndex(0)
        subject.activated.emit(0)
        pause_for()
        self.assertEqual(self.form.values()["columns"], "subject=")
        self.assertIn("No column names subjects", self.form.companion.told.text())
        layout = self.form.fields["layout"]
        layout.setCurrentIndex(layout.findData("centre and size"))
        pause_for()
        self.assertEqual(columns.rows.labelForField(columns.lists["a"]).text(), "Centre, x")
        self.form.fields["table"].field.setText(str(self.place / "none.csv"))
        pause_for()
        self.assertIn("Choose the table", columns.told.text())
        self.assertFalse(columns.rows.isRowVisible(subject))

    def test_columns_with_headings_nobody_knows_are_chosen_one_by_one(self):
        lines = ["Bild;Tier;l;o;b;h", *(f"GX-00{n} a.dcm;T{n};{n};{n};40;60" for n in range(1, 5))]
        self.table.write_text("\n".join(lines))
        columns = self.form.companion.columns
        pause(300)
        self.form.companion._look()
        self.settle(self.window)
        self.assertIn("Choose the column of Picture", columns.told.text())
        for role, head in zip(
            ("picture", "subject", "a", "b", "c", "d"), ("Bild", "Tier", "l", "o", "b", "h"), strict=True
        ):
            self.assertFalse(columns.complete and role in "bcd")
            choice = columns.lists[role]
            choice.setCurrentIndex(choice.findText(head))
            choice.activated.emit(choice.currentIndex())
            if role == "b":
                self.assertIn("Choose the column of Width, Height", columns.told.text())
            pause(300)
            self.settle(self.window)
        self.assertTrue(columns.complete)
        self.assertEqual([columns.lists[r].currentText() for r in ("picture", "a", "d")], ["Bild", "l", "h"])
        self.assertEqual(self.troubles, [])
        self.assertEqual([row.box for row in self.rows("GX-003 a.dcm")], [Box(3, 3, 40, 60)])

    def show(self, name="GX-001 a.dcm"):
        self.page.show_one(name)
        self.settle(self.window)
        return self.page.one

    def drag(self, start, end, key=None):
        one = self.page.one
        QTest.mousePress(one, Qt.MouseButton.LeftButton, pos=QPoint(round(start.x()), round(start.y())))
        for share in (0.4, 1.0):
            at = start + (end - start) * share
            QTest.mouseMove(one, QPoint(round(at.x()), round(at.y())))
            pause(5)
        if key is not None:
            QTest.keyClick(one, key)
        QTest.mouseRelease(one, Qt.MouseButton.LeftButton, pos=QPoint(round(end.x()), round(end.y())))

    def rows(self, name="GX-001 a.dcm"):
        return next(e for e in self.collection.entries if e.name == name).rows

    def test_grid_filters_and_what_is_wrong(self):
        self.assertIs(self.window.middle.currentWidget(), self.page)
        self.assertIn("picture: file", self.collection.heads)
        self.assertIn("two corners", self.collection.heads)
        cells = self.page.grid.cells
        self.assertEqual(cells.rowCount(), 11)
        self.assertIsNotNone(self.page.reader.small("GX-001 a.dcm"))
        self.collection.choose(problem="Missing files")
        self.assertEqual([e.name for e in cells.entries], ["none.dcm"])
        self.collection.choose(problem="Not read")
        self.assertEqual([e.name for e in cells.entries], ["bad.dcm"])
        self.collection.choose("transponder", "All pictures")
        for n in range(cells.rowCount()):
            self.assertIn("transponder", cells.index(n).data(ENTRY).classes)
        self.collection.choose(NONE)
        self.assertEqual([e.name for e in cells.entries], ["bad.dcm"])
        self.collection.choose(ALL)
        self.page.grid.grab()
        self.assertEqual(self.troubles, [])

    def test_boxes_that_lie_outside_are_found(self):
        text = "file,x,y,w,h\nGX-001 a.dcm,5,5,40,40\nGX-002 a.dcm,600,5,900,40\nGX-003 a.dcm,-9,5,20,40\n"
        self.table.write_text(text)  # whose pictures' size nobody knows before they are read
        self.look()
        self.page.grid.want()
        self.settle(self.window)
        self.collection.choose(problem="Box outside")
        self.assertEqual([e.name for e in self.page.grid.cells.entries], ["GX-002 a.dcm", "GX-003 a.dcm"])
        size = self.collection.entry("GX-003 a.dcm").size
        self.collection.correct("GX-003 a.dcm", 0, Box(1, 5, 20, 40), "", size)
        self.assertEqual([e.name for e in self.page.grid.cells.entries], ["GX-002 a.dcm"])

    def test_a_click_shows_a_picture_and_its_box_is_moved_and_made_larger(self):
        grid = self.page.grid
        at = grid.visualRect(grid.cells.index(0)).center()
        QTest.mouseClick(grid.viewport(), Qt.MouseButton.LeftButton, pos=at)
        self.settle(self.window)
        one = self.page.one
        self.assertEqual((self.page.large, one.name), (True, "GX-001 a.dcm"))
        small = self.page.reader.small(one.name, LARGE)
        before = box_in(self.rows()[0], small.columns, small.rows)
        rect = one.rect_of(0)
        scale = rect.width() / before.width
        inside = QPointF(rect.right() - 8, rect.center().y() - 12)  # another box lies in its left half
        self.drag(inside, inside + QPointF(30, 12))
        moved = box_in(self.rows()[0], small.columns, small.rows)
        self.assertAlmostEqual(moved.left - before.left, 30 / scale, delta=1.5 / scale)
        self.assertAlmostEqual(moved.width, before.width, delta=0.1)
        self.assertEqual((one.chosen, self.rows()[0].label), (0, "heart"))
        rect = one.rect_of(0)
        self.drag(rect.bottomRight(), rect.bottomRight() + QPointF(20, 25))
        larger = box_in(self.rows()[0], small.columns, small.rows)
        self.assertAlmostEqual(larger.width - moved.width, 20 / scale, delta=1.5 / scale)
        self.assertAlmostEqual(larger.left, moved.left, delta=0.1)
        self.drag(one.rect_of(0).center(), one.rect_of(0).center() + QPointF(50, 0), Qt.Key.Key_Escape)
        self.assertEqual(box_in(self.rows()[0], small.columns, small.rows), larger)
        self.press(self.page.undo)
        self.press(self.page.undo)
        self.assertEqual(box_in(self.rows()[0], small.columns, small.rows), before)
        self.assertFalse(self.collection.can_undo)
        steps = len(self.window.desk.study.logbook.entries())
        one.chosen = 0
        one.take_away()
        one.setFocus()
        QTest.keyClick(one, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.assertEqual(box_in(self.rows()[0], small.columns, small.rows), before)
        self.assertEqual(len(self.window.desk.study.logbook.entries()), steps)  # it was no undo of the study

    def test_long_names_do_not_widen_the_window(self):
        width = self.window.width()
        name = "n" * 300
        lines = ["file,x,y,w,h,class,animal", f"{name},1,2,3,4,{'c' * 300},{'s' * 300}", f"<b>{name},5,6,7,8,0,0"]
        self.table.write_text("\n".join(lines))
        self.look()
        self.page.show_one(name)
        self.settle(self.window)
        self.assertEqual(self.window.width(), width)
        self.assertLessEqual(self.page.minimumSizeHint().width(), self.page.width())
        self.page.grab()

    def test_nearer_and_moved(self):
        one = self.show()
        (frame, scale), point = one._frame(), QPointF(300, 260)
        under = (point - frame.topLeft()) / scale
        one.zoom(4.0, point)
        near, larger = one._frame()
        self.assertAlmostEqual(larger / scale, 4)
        at = near.topLeft() + under * larger
        self.assertAlmostEqual(at.x(), point.x())
        self.assertAlmostEqual(at.y(), point.y())
        count = len(self.rows())
        self.drag(near.topLeft() + QPointF(1500, 2000), near.topLeft() + QPointF(1560, 2030))
        box = self.rows()[-1].box
        self.assertEqual(len(self.rows()), count + 1)
        for told, drawn in zip((box.left, box.top, box.width, box.height), (1500, 2000, 60, 30), strict=True):
            self.assertAlmostEqual(told, drawn / larger, delta=1.5 / larger)
        QTest.mousePress(one, Qt.MouseButton.RightButton, pos=QPoint(300, 260))
        QTest.mouseMove(one, QPoint(340, 230))
        QTest.mouseRelease(one, Qt.MouseButton.RightButton, pos=QPoint(340, 230))
        moved = one._frame()[0].topLeft() - near.topLeft()
        self.assertEqual((moved.x(), moved.y()), (40, -30))
        one.zoom(1e-9, point)
        self.assertEqual(one._frame(), (frame, scale))
        self.assertEqual(len(self.rows()), count + 1)

    def test_boxes_are_drawn_named_and_taken_away(self):
        one = self.show()
        count = len(self.rows())
        frame, scale = one._frame()
        start = frame.topLeft() + QPointF(10, 10)
        self.assertEqual(one.new_class, self.collection.usual_class)
        before = {label: class_colour(self.collection, label).name() for label in ("heart", "transponder")}
        self.page.of_box.setCurrentText("=1+1 <b>")
        self.page.of_box.lineEdit().editingFinished.emit()
        self.drag(start, start + QPointF(40, 60))
        self.assertEqual(len(self.rows()), count + 1)
        self.assertEqual(self.rows()[-1].label, "=1+1 <b>")
        self.assertAlmostEqual(self.rows()[-1].box.width, 40 / scale, delta=1.5 / scale)
        self.assertIn("=1+1 <b>", self.collection.classes)
        for label, colour in before.items():  # others keep their colours
            self.assertEqual(class_colour(self.collection, label).name(), colour)
        self.drag(start + QPointF(60, 0), start + QPointF(60, 1))  # a click draws nothing
        self.assertEqual(len(self.rows()), count + 1)
        one.chosen = count
        one.set_class("")
        self.assertIn(UNNAMED, self.collection.classes)
        self.assertNotIn(class_colour(self.collection, "").name(), before.values())
        self.collection.choose(UNNAMED)
        self.assertEqual([e.name for e in self.collection.visible], ["GX-001 a.dcm"])
        self.collection.choose(ALL)
        one.set_class("scar")
        self.assertEqual(self.rows()[-1].label, "scar")
        one.setFocus()
        QTest.keyClick(one, Qt.Key.Key_Delete)
        self.assertEqual(len(self.rows()), count)
        for _ in range(count):
            one.chosen = 0
            one.take_away()
        self.assertEqual([row.box for row in self.rows()], [None])
        self.collection.choose(NONE)
        self.assertIn("GX-001 a.dcm", [e.name for e in self.collection.visible])

    def test_corrections_are_remembered_and_saved(self):
        one = self.show("GX-002 a.dcm")
        size = one._size
        self.collection.correct("GX-002 a.dcm", 0, Box(5, 6, 70, 80), "heart", size)
        self.window.close()
        self.window = self.open(self.place / "study")
        self.collection, self.page = self.window.desk.collection, self.window.pictures
        self.look()
        self.assertEqual(box_in(self.rows("GX-002 a.dcm")[0], *size), Box(5, 6, 70, 80))
        self.collection.choose(problem="Corrected")
        self.assertEqual([e.name for e in self.collection.visible], ["GX-002 a.dcm"])
        self.assertTrue(self.collection.save(self.place / "better"))
        again = read_boxes(self.place / "better.csv")
        self.assertEqual(again.columns.layout, "corner and size")
        found = next(row for row in again.rows if row.picture == "GX-002 a.dcm")
        self.assertEqual(box_in(found, *size), Box(5, 6, 70, 80))
        others = {
            (r.picture, r.label): box_in(r, 560, 760)
            for r in read_boxes(self.table).rows
            if r.picture != "GX-002 a.dcm"
        }
        for row in again.rows:
            if row.picture != "GX-002 a.dcm":
                true, box = others[row.picture, row.label], box_in(row, 560, 760)
                self.assertEqual(true is None, box is None)
                if box is not None:
                    self.assertAlmostEqual(box.left, true.left, places=2)
        self.assertEqual(self.form.fields["table"].text(), str(self.place / "better.csv"))
        self.press(self.form.apply)
        self.settle(self.window)
        boxes = read_csv(self.place / "set" / "boxes.csv")
        self.assertGreater(boxes.count, 10)
        self.assertEqual(self.troubles, [])

    def test_corrections_belong_to_what_the_table_holds(self):
        """Touched, copied, brought back: they are there; changed: that is said, and they can be taken over."""
        size = self.show("GX-002 a.dcm")._size
        self.collection.correct("GX-002 a.dcm", 0, Box(5, 6, 70, 80), "heart", size)
        text = self.table.read_bytes()
        pictures = self.place / "xr" / "pictures"

        def reopened(table: Path) -> bool:
            self.collection.close()
            self.collection.open(table, pictures)
            self.settle(self.window)
            return self.rows("GX-002 a.dcm")[0].box == Box(5, 6, 70, 80)

        os.utime(self.table, (1, 1))
        self.assertTrue(reopened(self.table))
        copy = self.place / "copy.csv"
        copy.write_bytes(text)
        self.assertTrue(reopened(copy))
        self.assertEqual(self.collection.unsaved(copy), 1)
        self.table.write_bytes(text + b"GX-001 a.dcm,GX-001,more,1,2,30,40,560,760\n")
        self.assertFalse(reopened(self.table))
        self.assertIn("boxes of 1 of its pictures were corrected here", self.troubles[-1])
        self.assertTrue(self.collection.can_bring_back(self.table))
        self.collection.bring_back(self.table)
        self.settle(self.window)
        self.assertEqual(self.rows("GX-002 a.dcm")[0].box, Box(5, 6, 70, 80))
        self.assertEqual(self.rows("GX-001 a.dcm")[-1].label, "more")
        self.table.write_bytes(text)  # brought back
        self.assertTrue(reopened(self.table))

    def test_a_window_that_only_reads_takes_no_corrections(self):
        second = self.open(self.place / "study")
        self.assertTrue(second.desk.study.read_only)
        collection = second.desk.collection
        collection.open(self.table, self.place / "xr" / "pictures")
        self.settle(second)
        before = list(collection.entry("GX-002 a.dcm").rows)
        self.assertFalse(collection.correct("GX-002 a.dcm", 0, Box(5, 6, 70, 80), "heart", (560, 760)))
        self.assertIn("can only be read here", self.troubles[-1])
        self.assertEqual(collection.entry("GX-002 a.dcm").rows, before)
        self.assertFalse(collection.can_undo)

    def test_a_correction_that_cannot_be_written_is_not_shown_as_made(self):
        before = list(self.rows("GX-002 a.dcm"))
        full = Trouble("The disk is full", "make room")
        with mock.patch.object(self.collection.corrections, "remember", side_effect=full):
            self.assertFalse(self.collection.correct("GX-002 a.dcm", 0, Box(5, 6, 70, 80), "heart", (560, 760)))
        self.assertEqual(self.rows("GX-002 a.dcm"), before)
        self.assertFalse(self.collection.can_undo or self.collection.unsaved(self.table))

    def test_a_set_is_not_made_of_boxes_as_they_were_before(self):
        size = self.show("GX-002 a.dcm")._size
        self.collection.correct("GX-002 a.dcm", 0, Box(5, 6, 70, 80), "heart", size)
        companion = self.form.companion
        self.assertIn("1 corrected picture is not in the file", companion.told.text())
        self.press(self.form.apply)
        self.assertIn("before they were corrected", self.form.trouble.text())
        self.assertIn("Save the table", self.form.trouble.text())
        self.settle(self.window)
        self.assertFalse((self.place / "set").exists())
        self.window.close()
        self.window = self.open(self.place / "study")  # it holds when the pictures are not looked at, too
        self.collection, self.page = self.window.desk.collection, self.window.pictures
        self.look()
        self.collection.close()
        self.press(self.form.apply)
        self.assertIn("Forget the corrections", self.form.trouble.text())
        self.look()
        companion = self.form.companion
        self.assertTrue(companion.forget.isVisibleTo(self.window))
        self.press(companion.forget)
        self.settle(self.window)
        self.assertEqual(companion.forget.text(), "Bring the corrections back")  # nothing is lost by one press
        self.press(companion.forget)
        self.settle(self.window)
        self.assertEqual(box_in(self.rows("GX-002 a.dcm")[0], *size), Box(5, 6, 70, 80))
        self.assertEqual([e.name for e in self.collection.entries if e.corrected], ["GX-002 a.dcm"])
        self.press(companion.forget)
        self.settle(self.window)
        self.assertFalse(any(entry.corrected for entry in self.collection.entries))
        self.assertEqual(self.collection.unsaved(self.table), 0)
        self.press(self.form.apply)
        self.settle(self.window)
        self.assertTrue((self.place / "set" / "boxes.csv").exists())

    def test_saved_over_the_table_itself(self):
        size = self.show("GX-002 a.dcm")._size
        self.form.fields["columns"].setText("class=class")
        self.collection.correct("GX-002 a.dcm", 0, Box(5, 6, 70, 80), "heart", size)
        self.assertTrue(self.collection.save(self.table))
        self.assertEqual((self.collection.unsaved(self.table), self.form.values()["columns"]), (0, ""))
        self.collection.undo()  # nothing is left of what was before
        self.assertEqual(box_in(self.rows("GX-002 a.dcm")[0], *size), Box(5, 6, 70, 80))
        self.collection.correct("GX-002 a.dcm", 0, Box(9, 9, 20, 30), "heart", size)
        self.assertEqual(self.collection.unsaved(self.table), 1)
        self.collection.close()
        self.look()
        self.assertEqual(box_in(self.rows("GX-002 a.dcm")[0], *size), Box(9, 9, 20, 30))

    def test_other_things_happen_meanwhile(self):
        one = self.show()
        rect = one.rect_of(0)
        for happening in (
            lambda: self.window.desk.viewing.set_stage("Outline"),
            lambda: self.window.desk.viewing.set_stage("Prepare"),
            lambda: self.window.set_theme("dusk"),
            lambda: self.window.set_theme("mist"),
            self.collection.undo,
            lambda: self.collection.choose("stone"),
            lambda: self.page.show_one("none.dcm"),
            lambda: self.page.show_one("bad.dcm"),
            self.collection.close,
        ):
            QTest.mousePress(one, Qt.MouseButton.LeftButton, pos=rect.center().toPoint())
            QTest.mouseMove(one, rect.center().toPoint() + QPoint(9, 9))
            happening()
            QTest.mouseRelease(one, Qt.MouseButton.LeftButton, pos=rect.center().toPoint())
            one.grab()
            self.settle(self.window)
        self.assertIs(self.window.middle.currentWidget(), self.window.table)
        self.look()
        self.page._turn(1)
        self.show()
        self.page._turn(1)
        self.assertEqual(one.name, "GX-002 a.dcm")
        self.page._turn(-5)
        self.assertEqual(one.name, "GX-001 a.dcm")
        self.assertEqual(self.troubles, [])

    def test_pages(self):
        lines = ["file,x,y,w,h", *(f"P{n},1,2,3,4" for n in range(2 * PAGE + 7))]
        self.table.write_text("\n".join(lines))
        self.look()
        self.assertEqual((self.collection.pages, self.page.grid.cells.rowCount()), (3, PAGE))
        self.press(self.page.after)
        self.press(self.page.after)
        self.press(self.page.after)
        self.assertEqual((self.collection.page, self.page.grid.cells.rowCount()), (2, 7))
        self.assertIn("without a file", self.page.told.text())

    def test_what_is_missing_is_said(self):
        self.form.fields["folder"].field.setText("")
        self.press(self.form.companion.button)
        self.assertIn("folder is not named", self.troubles[-1])
        self.form.fields["folder"].field.setText(str(self.place))
        self.form.fields["counted_in"].setText("12")
        self.press(self.form.companion.button)
        self.assertIn("two numbers", self.troubles[-1])
        self.form.fields["counted_in"].setText("")
        self.form.fields["table"].field.setText(str(self.place / "none.csv"))
        self.press(self.form.companion.button)
        self.settle(self.window)
        self.assertIn("cannot be read", self.troubles[-1])
        self.assertTrue(self.collection.is_open)  # what was shown stays
