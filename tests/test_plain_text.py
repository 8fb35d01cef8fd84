"""Names from files are text: in the window, in tool tips, in questions, in cells of a table."""

import ast
import csv
import unittest

import numpy as np
from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import Qt as GuiQt
from PySide6.QtWidgets import QApplication, QLabel, QMessageBox, QWidget

from kestrelmist.core.labels import LabelMap, LabelTable
from kestrelmist.core.space import Space
from kestrelmist.core.table import Column, Table
from kestrelmist.desk.app import application
from kestrelmist.desk.widgets.plain_text import Elided, ask_text, message_box, plain_tip
from kestrelmist.formats.label_files import read_label_map, write_label_map
from kestrelmist.formats.nifti import write_nifti
from kestrelmist.formats.saving import save_thing
from kestrelmist.formats.table_files import read_csv, read_parquet
from kestrelmist.study.study import Study
from tests.desk_case import DeskCase
from tests.making import PlaceCase
from tests.test_habits import ROOT

MARKUP = "<b>x</b><img src='y'><!-- &amp; 'q'"
TEXT_OF_WIDGETS = {"QLabel", "QMessageBox", "QInputDialog", "QErrorMessage"}
"""Widgets that take markup for an instruction."""


class OneplaceTest(unittest.TestCase):
    def test_text_goes_into_widgets_in_one_place(self):
        for path in (ROOT / "src/kestrelmist/desk").rglob("*.py"):
            if path.name == "plain_text.py":
                continue
            for node in ast.walk(ast.parse(path.read_text())):
                if not isinstance(node, ast.Call):
                    continue
                name = node.func.id if isinstance(node.func, ast.Name) else getattr(node.func, "attr", "")
                self.assertNotIn(name, TEXT_OF_WIDGETS, f"{path.name}:{node.lineno}")
                if name == "setToolTip":
                    self.assertTrue(self.is_plain(node.args[0]), f"{path.name}:{node.lineno}")

    def is_plain(self, node) -> bool:
        if isinstance(node, ast.IfExp):
            return self.is_plain(node.body) and self.is_plain(node.orelse)
        if isinstance(node, ast.Call):
            return isinstance(node.func, ast.Name) and node.func.id == "plain_tip"
        return isinstance(node, ast.Constant) or (
            isinstance(node, ast.BinOp) and self.is_plain(node.left) and self.is_plain(node.right)
        )


class CellsTest(PlaceCase):
    ODD = ("=1+1", "+A1", "-B2", "@sum", "\tx", "'=x", "''-y", "plain", "'tis", "-3.5", "", "=", "1_0")

    def test_text_in_csv_is_no_formula_and_comes_back(self):
        rows = [(text, n - 5.5, -n) for n, text in enumerate(self.ODD)]
        table = Table("Odd", [Column("=name"), Column("value", "mm"), Column("count")], rows)
        table.save_csv(self.place / "odd.csv")
        with open(self.place / "odd.csv", newline="") as stream:
            written = list(csv.reader(stream))
        self.assertEqual(written[0], ["'=name", "value", "value_unit", "count"])
        for (text, value, count), row in zip(rows, written[1:]):
            number = text == "-3.5"
            self.assertFalse(row[0][:1] in ("=", "+", "-", "@", "\t") and not number, row[0])
            self.assertEqual((float(row[1]), int(row[3])), (value, count))
        back = read_csv(self.place / "odd.csv")
        self.assertEqual([c.name for c in back.columns], ["=name", "value", "count"])
        self.assertEqual([v or "" for v in back.column("=name")], list(self.ODD))

    def test_parquet_keeps_them_as_they_are(self):
        rows = [(text,) for text in self.ODD]
        save_thing(self.place / "odd.parquet", Table("Odd", [Column("name")], rows))
        self.assertEqual(list(read_parquet(self.place / "odd.parquet").column("name")), list(self.ODD))

    def test_names_of_labels_go_out_harmless_and_come_back(self):
        space = Space((4, 4, 4), np.eye(4))
        numbers = np.zeros((4, 4, 4), np.uint16)
        numbers[0], numbers[1] = 1, 2
        table = LabelTable()
        for name in ("=1+1", "'@x"):
            table, _ = table.with_new(name)
        write_label_map(self.place / "labels.nii.gz", LabelMap(space, numbers, table))
        self.assertNotRegex((self.place / "labels.tsv").read_text(), r"(?m)\t[=@]")
        back = read_label_map(self.place / "labels.nii.gz")
        self.assertEqual([label.name for label in back.table], ["=1+1", "'@x"])


class WindowTest(DeskCase):
    def test_a_name_with_markup_is_shown_letter_by_letter(self):
        space = Space((6, 6, 6), np.eye(4))
        write_nifti(self.place / "a.nii", np.arange(216, dtype=np.int16).reshape(6, 6, 6), space)
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=self.place / "a.nii", subject=MARKUP)
            (record,) = study.records()
            study.rename(record.id, MARKUP)
            study.run("threshold", image=record.id, label=MARKUP, low=3.0, high=90.0)
            study.run("measure-labels", image=record.id)
        window = self.open(self.place / "study")
        for stage in ("Gather", "Outline", "Measure", "Report"):
            window.viewing.set_stage(stage)
            self.settle(window)
            window.drawer.open_page("tables")
            labels = window.findChildren(QLabel)
            self.assertGreater(len(labels), 20)
            for label in labels:
                rich = label.textFormat() != Qt.TextFormat.PlainText and GuiQt.mightBeRichText(label.text())
                self.assertFalse(rich, label.text())
            for widget in window.findChildren(QWidget):
                tip = widget.toolTip()
                self.assertFalse("<b>" in tip or "<img" in tip or "<!--" in tip, tip)
        self.assertTrue(any("<b>x</b>" in label.text() for label in window.findChildren(QLabel)))
        window.message.say(MARKUP, True)
        self.assertEqual(window.message.textFormat(), Qt.TextFormat.PlainText)

    def test_words_without_room_end_in_dots(self):
        application()
        for middle, pattern in ((False, "^Hippo.*…$"), (True, "^Hip.*….*us$")):
            words = Elided("Hippocampus", middle)
            self.addCleanup(words.deleteLater)
            words.resize(400, 20)
            self.assertEqual((words.shown, words.minimumSizeHint().width()), ("Hippocampus", 0))
            words.resize(words.fontMetrics().horizontalAdvance("Hippocamp"), 20)
            self.assertRegex(words.shown, pattern)
            self.assertEqual(words.text(), "Hippocampus")
            cut = words.grab().toImage()
            words.setText(words.shown)
            self.assertEqual(words.grab().toImage(), cut)  # what is told is what is drawn

    def test_tips_and_questions(self):
        QApplication.instance() or QApplication([])
        self.assertEqual(plain_tip("<b>&\n2"), "<qt>&lt;b&gt;&amp;<br>2</qt>")
        self.assertEqual(plain_tip(""), "")
        question = message_box(None, MARKUP, MARKUP)
        self.assertIsInstance(question, QMessageBox)
        for label in question.findChildren(QLabel):
            self.assertEqual(label.textFormat(), Qt.TextFormat.PlainText)
        seen = []

        def answer():
            (dialog,) = [w for w in QApplication.topLevelWidgets() if w.isVisible()]
            seen.extend((label.text(), label.textFormat()) for label in dialog.findChildren(QLabel))
            dialog.accept()

        QTimer.singleShot(50, answer)
        self.assertEqual(ask_text(None, "Delete", MARKUP, "as it was"), "as it was")
        self.assertIn((MARKUP, Qt.TextFormat.PlainText), seen)
