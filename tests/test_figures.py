"""Figures of several panels, by hand and without a window; plots and tables as pictures."""

from __future__ import annotations

import unittest
from unittest import mock

import numpy as np
import pypdf
from PIL import Image as Picture
from PySide6.QtWidgets import QInputDialog, QLabel

from kestrelmist.core.curve import Curve
from kestrelmist.core.errors import Trouble
from kestrelmist.core.figure import Figure, Panel
from kestrelmist.core.operation import find_operation
from kestrelmist.core.table import Column, Table
from kestrelmist.report.figure_page import figure_page, letter
from kestrelmist.report.plot import plot, plotted, ticks
from kestrelmist.report.table_picture import table_picture
from kestrelmist.scene.primitives import Page, Path, Words
from kestrelmist.study.study import Study
from tests.command import kestrelmist
from tests.desk_case import DeskCase
from tests.making import PlaceCase, keep_thing, two_balls


class DataTest(unittest.TestCase):
    def test_kept_and_read_again(self):
        figure = Figure(
            (Panel("sheet", {"image": [3]}, {"count": 4}), Panel("render", {"image": [3], "labels": [5]})), 3
        )
        self.assertEqual(Figure.from_dict(figure.as_dict()), figure)
        self.assertEqual(Figure.from_dict({"panels": [{"operation": 3}, 4], "columns": "x"}), Figure())
        self.assertEqual([p.operation for p in figure.ordered([2, 1]).panels], ["render", "sheet"])
        with self.assertRaisesRegex(Trouble, "has 2 panels: give their numbers"):
            figure.ordered([3])
        self.assertEqual([letter(n) for n in (0, 1, 25, 26, 51, 52)], ["a", "b", "z", "aa", "az", "ba"])

    def test_panels_are_aligned(self):
        pages = [
            Page(np.full((tall, 380), 0xFF000000 + n, np.uint32), (), 2.0) for n, tall in enumerate((200, 120, 90))
        ]
        whole = figure_page(pages, 2, 800, 2.0, 0.1, gap=20.0)
        for n, (x, y, tall) in enumerate(((0, 44, 200), (420, 44, 120), (0, 44 + 200 + 40 + 44, 90))):
            part = whole.ground[y : y + tall, x : x + 380]
            self.assertTrue((part & 0xFF == n).all(), n)
        self.assertEqual([one.text for one in whole.over if isinstance(one, Words)], ["a", "b", "c"])
        self.assertEqual(whole.ground.shape, (44 + 200 + 40 + 44 + 90, 800))


class PlotTest(PlaceCase):
    def curve(self, name="Course", unit="a.u.", shift=0.0) -> Curve:
        at = np.linspace(0, 10, 21)
        return Curve(np.sin(at) + shift, at, "s", unit, name=name)

    def test_lines_go_through_their_values(self):
        curve = self.curve()
        found = plotted([curve], 400.0, 300.0, -1.0, 1.0)
        line = max((one for one in found if isinstance(one, Path)), key=lambda one: len(one.points))
        x, y = np.array(line.points).T
        self.assertEqual(len(x), 21)
        self.assertAlmostEqual(float(np.corrcoef(y, -np.asarray(curve.values))[0, 1]), 1.0)
        np.testing.assert_allclose(np.diff(x), np.diff(x)[0])
        words = [one.text for one in found if isinstance(one, Words)]
        self.assertIn("time (s)", words)
        self.assertIn("−0.5", words)
        holes = Curve(np.where(np.arange(21) == 10, np.nan, 1.0), np.arange(21.0), "s", "")
        lines = [one for one in plotted([holes], 400, 300) if isinstance(one, Path) and len(one.points) == 10]
        self.assertEqual(len(lines), 2)

    def test_ticks_are_round(self):
        self.assertEqual(ticks(0.0, 10.0, 5), [0, 2, 4, 6, 8, 10])
        np.testing.assert_allclose(ticks(0.0012, 0.0049, 4), (0.002, 0.003, 0.004))
        self.assertEqual(ticks(-1e6, 1e6, 4), [-1e6, -5e5, 0, 5e5, 1e6])

    def test_files_and_sentences(self):
        plot([self.curve("One"), self.curve("Two", shift=1.0)], to=self.place / "p.svg", wide=85.0)
        text = (self.place / "p.svg").read_text(encoding="utf-8")
        self.assertIn(">One</text>", text)
        self.assertIn('width="85', text)
        for curves, said in (
            ([], "There is no curve"),
            ([self.curve(), self.curve(unit="HU")], "These curves have other units"),
            ([Curve(np.full(3, np.nan), np.arange(3.0), "s")], "have no value"),
        ):
            with self.assertRaisesRegex(Trouble, said):
                plot(curves, to=self.place / "n.svg")
        table = Table(
            "Volumes", [Column("label"), Column("volume", "mm³", 2)], [("Skull", 404.123), ("Jaw, left", 55.5)]
        )
        table_picture(table, to=self.place / "t.pdf", rows=1)
        page = pypdf.PdfReader(self.place / "t.pdf").pages[0].extract_text()
        self.assertIn("404.12", page)
        self.assertIn("1 more rows", page)
        self.assertIn("volume (mm³)", page)


class FigureTest(PlaceCase):
    def setUp(self):
        super().setUp()
        with Study(self.place / "S", create=True) as study:
            self.key = keep_thing(study, two_balls())
            study.run("threshold", label="Ball", low=500.0, high=2000.0)

    def test_headless_and_edited_later(self):
        place, name = self.place / "S", two_balls().name
        kestrelmist(
            "add-panel", "--study", place, "--figure", "One", "--panel", "sheet", "--given", f"image: {name}, count: 4"
        )
        kestrelmist(
            *("add-panel", "--study", place, "--figure", "one", "--panel", "picture"),
            *("--given", f"image: {name}, plane: coronal"),
        )
        kestrelmist(
            "figure",
            "--study",
            place,
            "--figure",
            "One",
            "--wide",
            "120 mm",
            "--dpi",
            100,
            "--out",
            self.place / "f.png",
        )
        with Picture.open(self.place / "f.png") as picture:
            self.assertEqual(picture.width, round(120 / 25.4 * 100))
            self.assertAlmostEqual(picture.info["dpi"][0], 100, delta=0.1)
            self.assertIn("b: Position", picture.info["XML:com.adobe.xmp"])
        with Study(place) as study:
            study.rename(self.key, "Renamed")
            record = study.items.of_kind("figure")[0]
            study.run("change-figure", figure="One", order="2, 1", columns=1)
            self.assertEqual([p.operation for p in study.thing(record.id).panels], ["picture", "sheet"])
            study.history.undo()
            self.assertEqual([p.operation for p in study.thing(record.id).panels], ["sheet", "picture"])
            study.run("figure", figure="One", to=self.place / "g.pdf")  # the image is found whatever it is called
            self.assertIn("y", pypdf.PdfReader(self.place / "g.pdf").pages[0].extract_text())
            study.run("take-off", thing=self.key)
            with self.assertRaisesRegex(Trouble, "What panel One a shows is no longer in the study"):
                study.run("figure", figure="One", to=self.place / "h.pdf")
            self.assertFalse((self.place / "h.pdf").exists())

    def test_what_is_wrong_is_said(self):
        with Study(self.place / "S") as study:
            for given, said in (
                ({"figure": "F", "panel": "sheet", "given": "count: [1"}, "cannot be read"),
                ({"figure": "F", "panel": "sheet", "given": "image: Nobody"}, "No image is called “Nobody”"),
                ({"figure": " ", "panel": "sheet", "given": f"image: {two_balls().name}"}, "A figure needs a name"),
                ({"figure": "F", "panel": "sheet", "given": f"image: {two_balls().name}, size: 3"}, "size"),
            ):
                with self.subTest(said=said), self.assertRaisesRegex(Trouble, said):
                    study.run("add-panel", **given)
            with self.assertRaisesRegex(Trouble, "There is no figure “F”: add a panel to begin one"):
                study.run("figure", figure="F", to=self.place / "n.png")
            self.assertEqual(study.items.of_kind("figure"), [])


class FigureDeskTest(DeskCase):
    def test_a_form_becomes_a_panel(self):
        with Study(self.place / "study", create=True) as study:
            key = keep_thing(study, two_balls())
        window = self.open(self.place / "study")
        window.desk.viewing.show_image(key)
        window.desk.viewing.set_stage("Report")
        self.settle(window)
        group = window.bench.page("Report").groups["figures"]
        self.assertTrue(group.empty.isVisible())
        for name, settings in (("sheet", {"count": 3}), ("picture", {"plane": "coronal"})):
            form = window.bench.open_operation(find_operation(name))
            form.fill(settings)
            with mock.patch.object(QInputDialog, "getItem", return_value=("Figure 1", True)):
                form.to_figure.click()
            self.settle(window)
        self.assertEqual(self.troubles, [])
        figure = group.figure
        self.assertEqual([p.operation for p in figure.panels], ["sheet", "picture"])
        self.assertEqual(figure.panels[0].inputs["image"], [key])
        self.assertEqual(figure.panels[0].settings["count"], 3)
        group.panels.setCurrentRow(1)
        group.up.click()
        self.settle(window)
        self.assertEqual([p.operation for p in group.figure.panels], ["picture", "sheet"])
        group.columns.setValue(1)
        self.settle(window)
        self.assertEqual(group.figure.columns, 1)
        window.desk.undoing.undo()
        window.desk.undoing.undo()
        self.settle(window)
        self.assertEqual([p.operation for p in group.figure.panels], ["sheet", "picture"])
        group.preview.click()
        self.settle(window)
        self.assertGreater(group.shown.findChild(QLabel).pixmap().width(), 300)
        group.shown.close()
        group.write.click()
        form = window.bench.page("Report").form
        form.fields["to"].field.setText(str(self.place / "f.png"))
        form.apply.click()
        self.settle(window)
        self.assertEqual((self.troubles, form.trouble.text()), ([], ""))
        self.assertTrue((self.place / "f.png").exists())

    def test_the_panes_become_panels(self):
        with Study(self.place / "study", create=True) as study:
            key = keep_thing(study, two_balls())
            study.run("threshold", label="Ball", low=500.0, high=2000.0)
        window = self.open(self.place / "study")
        window.desk.viewing.show_image(key)
        window.desk.viewing.set_stage("Report")
        self.settle(window)
        window.desk.viewing.go_to((3.0, 5.0, 7.0))
        window.desk.layers.set_look(slab=4.0, low=10.0, high=900.0)
        group = window.bench.page("Report").groups["figures"]
        with mock.patch.object(QInputDialog, "getItem", return_value=("Panes", True)):
            group.panes.click()
        self.settle(window)
        self.assertEqual(self.troubles, [])
        panels = group.figure.panels
        self.assertEqual(sorted(p.operation for p in panels), ["picture"] * 3 + ["render"])
        at = {p.settings["plane"]: p.settings["at"] for p in panels if p.operation == "picture"}
        np.testing.assert_allclose([at[n] for n in ("sagittal", "coronal", "axial")], window.desk.viewing.crosshair)
        with Study(self.place / "study") as study:
            study.run("figure", figure="Panes", to=self.place / "p.svg")
        text = (self.place / "p.svg").read_text()
        self.assertEqual(text.count("highest of 4 mm") >= 3, True)
        self.assertIn("10 to 900", text)
        window.desk.sheet.change(count=3)
        window.table.set_sheet(True)
        with mock.patch.object(QInputDialog, "getItem", return_value=("Panes", True)):
            group.panes.click()
        self.settle(window)
        self.assertIn("These panes are no panels", self.troubles[-1])


if __name__ == "__main__":
    unittest.main()
