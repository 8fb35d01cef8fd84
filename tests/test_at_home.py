"""What the program remembers of a person and of a window; pictures and ranges that are handed on; files that are
dropped."""

import json
import os
from pathlib import Path
from unittest import mock

import numpy as np
from PySide6.QtCore import QMimeData, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent
from PySide6.QtPrintSupport import QPrinter
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from kestrelmist.core import person
from kestrelmist.desk.command import COMMANDS
from kestrelmist.desk.light_table.plan_table import IMAGE, TAKE
from kestrelmist.desk.widgets.carrying import carried
from kestrelmist.formats.saving import save_image
from kestrelmist.study.study import Study
from tests.desk_case import DeskCase, pause
from tests.making import PlaceCase, two_balls


class PersonTest(PlaceCase):
    def setUp(self):
        super().setUp()
        self.enterContext(mock.patch.dict(os.environ, {"KESTRELMIST_HOME": str(self.place / "home")}))

    def test_studies_opened_lately(self):
        self.assertEqual(person.recent_studies(), [])
        for n in range(person.RECENT + 3):
            folder = self.place / f"S {n}"
            Study(folder, create=True).close()
            person.opened(folder)
        self.assertEqual([p.name for p in person.recent_studies()][:2], ["S 14", "S 13"])
        self.assertEqual(len(person.recent_studies()), person.RECENT)
        person.opened(self.place / "S 5")
        self.assertEqual([p.name for p in person.recent_studies()][:2], ["S 5", "S 14"])
        (self.place / "S 5" / "study.db").unlink()  # one that is gone is not offered
        self.assertEqual(person.recent_studies()[0].name, "S 14")

    def test_letters_and_what_is_damaged(self):
        self.assertEqual(person.letters(), 1.0)
        self.assertEqual(person.set_letters(1.25), 1.25)
        self.assertEqual(person.letters(), 1.25)
        self.assertEqual(person.set_letters(9), 2.0)
        file = self.place / "home" / "person.json"
        for damaged in ("{", "[]", '{"letters": "x", "studies": 3}', '{"letters": true, "studies": [1, null]}'):
            file.write_text(damaged)
            self.assertEqual((person.letters(), person.recent_studies()), (1.0, []))
        person.set_letters(1.1)
        self.assertEqual(json.loads(file.read_text())["letters"], 1.1)


class AtHomeTest(DeskCase):
    def setUp(self):
        super().setUp()
        self.enterContext(mock.patch.dict(os.environ, {"KESTRELMIST_HOME": str(self.place / "home")}))
        self.study_with_balls().close()
        self.window = self.open(self.place / "study")
        self.desk, self.viewing = self.window.desk, self.window.desk.viewing
        self.said: list[str] = []
        self.desk.session.said.connect(self.said.append)

    def do(self, name: str) -> None:
        COMMANDS.get(name).do(self.window)

    def test_the_window_stands_as_it_was_left(self):
        canvas = self.window.table.slices[0].canvas
        canvas.zoom(3.0)
        pixel, centre = canvas.current_view().pixel, canvas.current_view().centre
        self.window.resize(1100, 700)
        self.window.drawer.open_page("marks")
        self.window.table.set_floating(self.window.table.slices[2], True)
        self.settle(self.window)
        self.window.close()
        window = self.open(self.place / "study")
        again = window.table.slices[0].canvas.current_view()
        self.assertAlmostEqual(again.pixel, pixel)
        np.testing.assert_allclose(again.centre, centre)
        self.assertTrue(window.drawer.isVisible())
        self.assertEqual(window.drawer.page, "marks")
        self.assertEqual([one.pane.name for one in window.table.floating], ["Sagittal"])
        self.assertEqual((window.width(), window.height()), (1100, 700))
        window.close()
        with Study(self.place / "study") as study:
            for damaged in (
                3,
                {"size": "x", "views": 4, "drawer": 1, "floating": {}},
                {"views": {"Coronal": {"a": []}}},
            ):
                study.catalogue.remember("as left", damaged)
        self.open(self.place / "study").close()

    def test_other_studies_are_found(self):
        other = self.place / "Other"
        Study(other, create=True).close()
        person.opened(other)
        wanted: list[Path] = []
        self.window.study_wanted.connect(wanted.append)
        go = next(do for line, do in self.window.findable.fixed() if line.name == "Open: Other")
        go()
        self.assertEqual([p.name for p in wanted], ["Other"])

    def test_a_picture_on_the_clipboard_and_on_paper(self):
        self.do("copy-picture")
        image = QApplication.clipboard().image()
        self.assertEqual(image.size(), self.window.table.lead.canvas.size())
        seen = {image.pixel(x, y) for x in range(0, image.width(), 3) for y in range(0, image.height(), 7)}
        self.assertGreater(len(seen), 20)
        printer = QPrinter()
        printer.setOutputFormat(QPrinter.OutputFormat.PdfFormat)
        printer.setOutputFileName(str(self.place / "p.pdf"))
        self.window.print_picture(printer)
        self.assertGreater((self.place / "p.pdf").stat().st_size, 2000)
        self.do("larger-letters")
        self.assertIn("110% of the usual size", self.said[-1])
        self.do("usual-letters")
        self.assertEqual(person.letters(), 1.0)

    def test_a_range_is_handed_on(self):
        image = two_balls()
        image.name = "Others"
        save_image(self.place / "other.nii.gz", image)
        self.desk.session.run("gather", {"folder": self.place / "other.nii.gz", "subject": "T-2"})
        self.settle(self.window)
        first, second = (r.id for r in self.desk.study.records())
        self.viewing.show_image(first)
        self.settle(self.window)
        self.desk.layers.set_look(low=-12.0, high=345.0, colour_map="Ember")
        self.do("copy-range")
        self.viewing.show_image(second)
        self.settle(self.window)
        self.assertNotEqual(self.viewing.look.low, -12.0)
        self.do("give-range")
        self.assertEqual(
            (self.viewing.look.low, self.viewing.look.high, self.viewing.look.colour_map), (-12.0, 345.0, "Ember")
        )
        self.desk.undoing.undo()
        self.assertNotEqual(self.viewing.look.low, -12.0)
        self.desk.layers.set_look(low=1.0, high=2.0)
        kin = [
            r
            for r in self.desk.study.records()
            if (r.modality, r.unit) == (self.viewing.record.modality, self.viewing.record.unit)
        ]
        self.do("same-range")
        self.assertIn(f"{len(kin) - 1} more image", self.said[-1])
        for record in kin:
            look = self.viewing.stacks[record.id].of(record.id).look
            self.assertEqual((look.low, look.high), (1.0, 2.0))

    def drop(self, data: QMimeData) -> None:
        canvas = self.window.table.lead.canvas
        no = Qt.KeyboardModifier.NoModifier
        canvas.dropEvent(QDropEvent(QPointF(50, 50), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, no))
        self.settle(self.window)

    def test_what_is_dropped_on_a_pane_lies_over(self):
        lead = self.viewing.record.id
        save_image(self.place / "dropped.nii.gz", two_balls())
        data = QMimeData()
        data.setUrls([QUrl.fromLocalFile(str(self.place / "dropped.nii.gz"))])
        image = two_balls()
        image = image.like(image.data + 1, name="Dropped")
        save_image(self.place / "dropped.nii.gz", image)
        self.drop(data)
        self.assertTrue(self.viewing.leads(lead))
        self.assertEqual(len(self.desk.study.records()), 2)
        key = next(r.id for r in self.desk.study.records() if r.id != lead)
        self.assertIsNotNone(self.desk.layers.stack.of(key))
        self.desk.layers.take_away(key)
        self.drop(carried(key))
        self.assertIsNotNone(self.desk.layers.stack.of(key))
        self.assertEqual(self.troubles, [])

    def test_lines_of_a_plan_are_ticked_many_at_a_time_and_sorted(self):
        folder = self.place / "many"
        folder.mkdir()
        for n in range(12):
            image = two_balls()
            save_image(folder / f"scan {n}.nii.gz", image.like(image.data + n, name=f"scan {n}"))
        self.window.gather([folder])
        self.settle(self.window)
        plan = self.window.plan
        model, view = plan.model, plan.view
        self.assertEqual(len(model.lines), 12)
        view.sortByColumn(IMAGE, Qt.SortOrder.DescendingOrder)
        self.assertEqual([line.name for line in model.lines][:3], ["scan 11", "scan 10", "scan 9"])
        view.selectRow(2)
        view.setFocus()
        for _ in range(4):
            QTest.keyClick(view, Qt.Key.Key_Down, Qt.KeyboardModifier.ShiftModifier)
        self.assertEqual(plan.chosen, [2, 3, 4, 5, 6])
        QTest.keyClick(view, Qt.Key.Key_Space)
        self.assertEqual([line.name for line in model.lines if not line.take], [f"scan {n}" for n in (9, 8, 7, 6, 5)])
        view.sortByColumn(TAKE, Qt.SortOrder.DescendingOrder)
        self.assertFalse(any(line.take for line in model.lines[:5]))
        QTest.keyClick(view, Qt.Key.Key_A, Qt.KeyboardModifier.ControlModifier)
        QTest.keyClick(view, Qt.Key.Key_Space)
        self.assertEqual(sum(line.take for line in model.lines), 12)
        view.sortByColumn(-1, Qt.SortOrder.AscendingOrder)
        pause(20)
        self.assertEqual([line.name for line in model.lines][:2], ["scan 0", "scan 1"])
