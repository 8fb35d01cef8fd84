"""Contact sheets: where slices lie, what they show, sizes on paper, and what is wrong in a sentence; in the window."""

from __future__ import annotations

import unittest

import numpy as np
import pypdf
import tifffile
from PIL import Image as Picture
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest

from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.labels import Label, LabelMap, LabelTable
from kestrelmist.core.space import Space, picture_space
from kestrelmist.report.sheet import sheet
from kestrelmist.scene.layer import ImageLook
from kestrelmist.scene.layer_type import Drawn
from kestrelmist.scene.sheet.page import laid_out, sheet_page, view_of
from kestrelmist.scene.sheet.plan import SheetPlan, SheetStack, places_of, subject_box
from kestrelmist.scene.view import AXIAL, CORONAL
from kestrelmist.study.study import Study
from tests.command import kestrelmist
from tests.desk_case import DeskCase
from tests.making import PlaceCase, keep_thing, two_balls

LOOK = ImageLook(0, 100, smooth=False)


def ramp() -> Image:
    """Each axial slice has a value of its own, in a box that does not fill the grid."""
    values = np.zeros((40, 50, 30), np.float32)
    values[8:32, 5:45] = np.arange(30) * 3 + 10
    return Image(np.asfortranarray(values), Space(values.shape, np.diag([0.5, 0.5, 0.8, 1.0])), "Ramp")


def stack(image: Image, **more) -> SheetStack:
    return SheetStack([Drawn(image, LOOK)], **more)


class PlanTest(unittest.TestCase):
    def setUp(self):
        self.image = ramp()
        self.box = subject_box(self.image, False)

    def places(self, **plan):
        return places_of(SheetPlan(**plan), AXIAL, self.image, None, self.box)

    def test_even_places_steps_ends_and_typed_ones(self):
        low, high = self.box.low[2], self.box.high[2]
        even = self.places(count=5)
        np.testing.assert_allclose(np.diff(even), (high - low) / 5)
        self.assertAlmostEqual(even[0] - low, high - even[-1])
        steps = self.places(every=4.0)
        np.testing.assert_allclose(np.diff(steps), 4.0)
        self.assertAlmostEqual(steps[0] - low, high - steps[-1])
        between = self.places(count=4, start=2.0, end=10.0)
        np.testing.assert_allclose(between, (3, 5, 7, 9))
        self.assertEqual(self.places(places=(1.5, 0.2)), [1.5, 0.2])
        numbers = np.zeros(self.image.space.shape, np.uint16)
        numbers[10:20, 10:20, 10:15] = 4
        labels = LabelMap(self.image.space, numbers, LabelTable([Label(4, "Part", "#FF0000")]))
        over = places_of(SheetPlan(count=5, label=4), AXIAL, self.image, labels, self.box)
        np.testing.assert_allclose(over, np.arange(10, 15) * 0.8)

    def test_of_one_slice_there_is_one(self):
        flat = Image(np.ones((20, 10, 1), np.float32), picture_space(20, 10, (0.1, 0.1)), "Flat")
        found = places_of(SheetPlan(count=12), AXIAL, flat, None, subject_box(flat, True))
        self.assertEqual(len(found), 1)

    def test_what_is_no_place_is_said(self):
        for plan, said in (
            ({"places": (99.0,)}, "The plane at 99 lies outside “Ramp”: choose places from"),
            ({"start": 5.0, "end": 1.0}, "From 5 to 1 mm there is nothing"),
            ({"start": 90.0, "end": 95.0}, "The slices lie outside “Ramp”"),
            ({"every": 0.01}, "more than 600 slices"),
            ({"label": 3}, "has no voxels"),
        ):
            with self.assertRaisesRegex(Trouble, said):
                self.places(**plan)

    def test_the_subject_is_found_in_its_ground(self):
        box = subject_box(self.image, True)
        np.testing.assert_allclose(box.low[:2], (8 * 0.5, 5 * 0.5), atol=1.2)
        np.testing.assert_allclose(box.high[:2], (31 * 0.5, 44 * 0.5), atol=1.2)


class PageTest(unittest.TestCase):
    def test_each_slice_shows_its_own_place(self):
        image = ramp()
        page, laid = sheet_page([[stack(image)]], SheetPlan(count=12, columns=4, locator=False, bars=False), 800)
        self.assertEqual(len({cell.left for cell in laid.cells}), 4)
        self.assertEqual(len({cell.top for cell in laid.cells}), 3)
        for cell in laid.cells:
            wide, tall = laid.sizes["Axial"]
            value = page.ground[cell.top + tall // 2, cell.left + wide // 2] & 255
            k = image.space.nearest_voxel((10, 12, cell.at))[2]
            self.assertAlmostEqual(float(value), min(255, (3 * k + 10) / 100 * 255), delta=3)
            where = view_of(cell, laid, True).to_world(wide / 2, tall / 2)
            self.assertAlmostEqual(where[2], cell.at)

    def test_planes_subjects_and_stacks(self):
        image, other = ramp(), ramp()
        plan = SheetPlan(("axial", "coronal"), count=3, columns=3)
        laid = laid_out([[stack(image), stack(other)], [stack(other), stack(image)]], plan, 1600, 1.0)
        self.assertEqual(len(laid.cells), 2 * 2 * 2 * 3)
        pixels = {plane: laid.sizes[plane] for plane in ("Axial", "Coronal")}
        self.assertAlmostEqual(pixels["Axial"][0], pixels["Coronal"][0], delta=1)  # one scale everywhere
        tops = [cell.top for cell in laid.cells]
        self.assertEqual(tops, sorted(tops))
        self.assertEqual({cell.plane for cell in laid.cells}, {AXIAL, CORONAL})

    def test_slices_apart_and_overlapping(self):
        image = ramp()
        for gap in (-0.4, 0.0, 0.5):
            laid = laid_out(
                [[stack(image)]], SheetPlan(count=4, columns=4, gap=gap, bars=False, locator=False), 600, 1.0
            )
            step = laid.cells[1].left - laid.cells[0].left
            self.assertAlmostEqual(step / laid.sizes["Axial"][0], 1 + gap, delta=0.02)
        page, laid = sheet_page([[stack(image)]], SheetPlan(count=4, columns=4, gap=-0.4, light=True, bars=False), 600)
        self.assertEqual(int(page.ground[0, 0] & 0xFFFFFF), 0xFFFFFF)
        wide, tall = laid.sizes["Axial"]
        row = page.ground[laid.cells[0].top + tall // 2, laid.cells[0].left : laid.cells[3].left + wide] & 255
        self.assertLess(row.max(), 255)  # nothing pale between slices that overlap


class SheetTest(PlaceCase):
    def test_sizes_scale_and_facts_by_independent_readers(self):
        image, over = ramp(), two_balls()
        for ending in ("png", "tif", "jpg", "svg", "pdf"):
            sheet(image, to=self.place / f"s.{ending}", count=8, width=180.0, dpi=150.0)
        picture = Picture.open(self.place / "s.png")
        self.assertEqual(picture.width, round(180 / 25.4 * 150))
        self.assertAlmostEqual(picture.info["dpi"][0], 150, delta=0.1)
        words = picture.info["XML:com.adobe.xmp"]
        self.assertIn("Position", words)
        self.assertIn("axial", words)
        with tifffile.TiffFile(self.place / "s.tif") as file:
            tags = file.pages[0].tags
            across, by = tags["XResolution"].value
            self.assertAlmostEqual(across / by * 2.54, 150, delta=0.1)
            self.assertEqual(tags["ResolutionUnit"].value, 3)
            self.assertIn(b"kestrelmist", bytes(tags[700].value))
        self.assertAlmostEqual(Picture.open(self.place / "s.jpg").info["dpi"][0], 150, delta=1)
        page = pypdf.PdfReader(self.place / "s.pdf").pages[0]
        self.assertAlmostEqual(float(page.mediabox.width), 180 / 25.4 * 72, delta=0.5)
        self.assertIn("z", page.extract_text())
        self.assertIn("Ramp", pypdf.PdfReader(self.place / "s.pdf").metadata.title)
        svg = (self.place / "s.svg").read_text(encoding="utf-8")
        self.assertIn('width="179.', svg.replace('width="180', 'width="179.'))
        self.assertIn("</text>", svg)
        self.assertNotEqual(over.name, "")

    def test_by_every_door(self):
        with Study(self.place / "S", create=True) as study:
            key = keep_thing(study, two_balls())
            study.run("threshold", label="Ball", low=500.0, high=2000.0)
            labels = study.in_hand(key)
            study.run("sheet", image=key, labels=labels, to=self.place / "a.png", count=6, within="Ball")
        kestrelmist(
            *("sheet", two_balls().name, "--labels", f"{two_balls().name}#Labels", "--within", "Ball", "--count", 6),
            *("--study", self.place / "S", "--out", self.place / "b.png"),
        )
        pictures = [np.asarray(Picture.open(self.place / f"{name}.png")) for name in "ab"]
        np.testing.assert_array_equal(*pictures)
        for words, said in (
            (("--plane", "oblique"), "There is no plane “oblique”: name axial"),
            (("--at", "1,x"), "“x” is no position"),
            (("--columns", 80, "--count", 80, "--width", "20 mm", "--dpi", 60), "pixels wide: ask for fewer columns"),
        ):
            ran = kestrelmist(
                *("sheet", two_balls().name, *words, "--study", self.place / "S", "--out", self.place / "n.png"), code=1
            )
            self.assertIn(said, ran.stderr)
            self.assertFalse((self.place / "n.png").exists())

    def test_no_identity_unless_asked(self):
        image = ramp()
        image.subject = "Hazel-77"
        sheet(image, to=self.place / "s.svg")
        self.assertNotIn("Hazel", (self.place / "s.svg").read_text(encoding="utf-8"))
        sheet(image, to=self.place / "n.svg", named=True)
        self.assertIn("Hazel-77", (self.place / "n.svg").read_text(encoding="utf-8"))


class SheetDeskTest(DeskCase):
    def setUp(self):
        super().setUp()
        with Study(self.place / "study", create=True) as study:
            self.key = keep_thing(study, two_balls())
        self.window = self.open(self.place / "study")
        self.desk = self.window.desk
        self.desk.viewing.show_image(self.key)
        self.settle(self.window)

    def test_it_is_live_and_a_click_goes_there(self):
        window, model = self.window, self.desk.sheet
        QTest.keyClick(window, Qt.Key.Key_F9)
        self.settle(window)
        canvas = window.table.sheet.canvas
        self.assertTrue(canvas.isVisible() and window.bench.sheet.isVisible())
        self.assertFalse(window.table.slices[0].isVisible())
        self.assertEqual(len(canvas.laid.cells), 12)
        window.bench.sheet.count.setValue(5)
        window.bench.sheet.plane.activated.emit(1)
        self.settle(window)
        self.assertEqual((len(canvas.laid.cells), canvas.laid.cells[0].plane), (5, CORONAL))
        before = canvas.page.ground.copy()
        self.desk.viewing.set_look(high=100.0)
        self.settle(window)
        self.assertNotEqual(before.tolist(), canvas.page.ground.tolist())
        cell, box = canvas.laid.cells[3], canvas.box
        wide, tall = canvas.laid.sizes[cell.plane.name]
        times = box.width() / canvas.laid.width
        at = QPoint(round(box.x() + (cell.left + wide / 2) * times), round(box.y() + (cell.top + tall / 2) * times))
        QTest.mouseClick(canvas, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, at)
        self.assertAlmostEqual(float(self.desk.viewing.crosshair[1]), cell.at)
        window.bench.sheet.write.click()
        form = window.bench.page(self.desk.viewing.stage).form
        form.fields["to"].field.setText(str(self.place / "w.png"))
        values = form.values()
        self.assertEqual((values["count"], values["plane"], values["high"]), (5, "coronal", 100.0))
        model.change(start=500.0, end=600.0)
        self.settle(window)
        self.assertIn("lie outside", canvas.trouble)
        model.change(start=None, end=None)
        window.close()
        again = self.open(self.place / "study")
        self.assertEqual((again.desk.sheet.plan.count, again.desk.viewing.arrangement.sheet), (5, True))


if __name__ == "__main__":
    unittest.main()
