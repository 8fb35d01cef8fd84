"""Scale bars and burned-in marks, read back by other libraries."""

import tempfile
import unittest
from pathlib import Path

import numpy as np
import pydicom
from PIL import Image as Picture

from kestrelmist.core.errors import Trouble
from kestrelmist.core.geometry.mark import Mark
from kestrelmist.core.geometry.marks import Marks
from kestrelmist.core.image import Image
from kestrelmist.core.space import Space, picture_space
from kestrelmist.report.burn_in import burn_in
from kestrelmist.report.scale_bar import scale_bar
from tests.command import kestrelmist

SPACE = Space((60, 50, 6), np.diag([1.0, 1.0, 2.0, 1.0]))


class PlaceTest(unittest.TestCase):
    def setUp(self):
        self.place = Path(self.enterContext(tempfile.TemporaryDirectory()))


class ScaleBarTest(PlaceTest):
    def picture(self, side: float | None = 0.001, value=90) -> Image:
        values = np.full((400, 300, 1), value, np.uint8)
        values[0, 0] = 200
        return Image(values, picture_space(400, 300, None if side is None else (side, side)), "Section")

    def test_a_transparent_one_is_as_long_as_told(self):
        to = self.place / "bar.png"
        table = scale_bar(self.picture(), to, 0.1, transparent=True, words=False)
        self.assertEqual(table.rows[0][2:4], ("0.1 mm", 100.0))
        with Picture.open(to) as made:
            self.assertEqual((made.mode, made.size), ("RGBA", (400, 300)))
            pixels = np.asarray(made)
        bright = (pixels[..., 3] > 250) & (pixels[..., 0] > 200)
        rows, columns = np.nonzero(bright)
        self.assertEqual(int(np.ptp(columns)) + 1, 100)
        self.assertTrue(rows.min() > 250 and columns.min() > 250)  # the lower right corner
        self.assertEqual(int((pixels[..., 3] > 0).sum(1).max()), 102)  # its edge is one pixel wide
        self.assertEqual(pixels[:200].max(), 0)

    def test_burned_in_everything_else_stays(self):
        to = self.place / "burned.tif"
        scale_bar(self.picture(), to, corner="upper left")
        with Picture.open(to) as made:
            pixels = np.asarray(made)
            self.assertEqual(made.tag_v2[296], 3)
            self.assertAlmostEqual(float(made.tag_v2[282]), 10_000, delta=1)  # pixels a centimetre, of 1 µm
        self.assertEqual(pixels.shape, (300, 400, 3))
        self.assertEqual(len(np.unique(pixels[150:, 200:].reshape(-1, 3), axis=0)), 1)
        self.assertGreater(len(np.unique(pixels[:80, :150].reshape(-1, 3), axis=0)), 3)

    def test_the_size_of_a_pixel_stands_in_a_png(self):
        to = self.place / "burned.png"
        scale_bar(self.picture(0.1), to, 5.0, colour="#000000")
        with Picture.open(to) as made:
            self.assertAlmostEqual(made.info["dpi"][0], 254, delta=0.1)
            pixels = np.asarray(made)
        self.assertGreater(int((pixels.max(2) == 0)[250:].sum()), 100)  # the black bar

    def test_troubles(self):
        for image, length, words in (
            (self.picture(None), None, "has no scale, so that a bar would mean nothing"),
            (self.picture(), 1.0, "A bar of 1 mm is longer than the picture \\(400 µm\\)|0.4 mm"),
            (self.picture(), 1e-6, "shorter than a pixel"),
            (Image(np.zeros((4, 4, 4), np.uint8), Space((4, 4, 4), np.eye(4))), None, "is a volume"),
        ):
            with self.assertRaisesRegex(Trouble, words):
                scale_bar(image, self.place / "a.png", length)
        with self.assertRaisesRegex(Trouble, "as .png or .tif"):
            scale_bar(self.picture(), self.place / "a.pdf")
        (self.place / "a.png").write_text("mine")
        with self.assertRaises(Trouble):
            scale_bar(self.picture(), self.place / "a.png")
        self.assertEqual((self.place / "a.png").read_text(), "mine")


class BurnInTest(PlaceTest):
    def volume(self) -> Image:
        values = np.random.default_rng(1).integers(-1000, 2000, (60, 50, 6)).astype(np.int16)
        return Image(
            np.asfortranarray(values), Space((60, 50, 6), np.diag([1.0, 1.0, 2.0, 1.0])), "CT", "T-1", "CT", "HU"
        )

    def marks(self, *marks: Mark) -> Marks:
        return Marks.numbered(marks)

    def test_original_depth_in_a_new_series(self):
        image = self.volume()
        line = Mark("line", ((10, 20, 4), (40, 20, 4)), normal=(0, 0, 1))
        before = image.data.copy()
        table = burn_in(image, self.marks(line), self.place / "out", which="all slices", measured=False)
        np.testing.assert_array_equal(image.data, before)
        self.assertEqual([row[3:5] for row in table.rows], [("3", "")])
        files = sorted((self.place / "out").glob("*.dcm"))
        self.assertEqual(len(files), 6)
        for n, path in enumerate(files):
            ds = pydicom.dcmread(path)
            plane = ds.pixel_array * float(ds.RescaleSlope) + float(ds.RescaleIntercept)
            changed = np.argwhere(plane != image.data[..., n].T)
            if n != 2:
                self.assertEqual(len(changed), 0, n)
                continue
            self.assertTrue(len(changed) > 60)
            self.assertTrue(
                (abs(changed[:, 0] - 20) <= 6).all() and changed[:, 1].min() >= 7 and changed[:, 1].max() <= 43
            )
            self.assertEqual((ds.Modality, ds.BitsAllocated, ds.PatientID), ("CT", 16, "T-1"))
            self.assertIn("marks burned in", ds.SeriesDescription)

    def test_colours_and_slices_with_marks_alone(self):
        image = self.volume()
        arrow = Mark("arrow", ((10, 20, 4), (40, 30, 4)), colour="#FF0000")
        burn_in(image, self.marks(arrow), self.place / "out", depth="colour")
        (path,) = (self.place / "out").glob("*.dcm")
        ds = pydicom.dcmread(path)
        self.assertEqual((ds.PhotometricInterpretation, ds.BitsAllocated), ("RGB", 8))
        red = (ds.pixel_array[..., 0] > 200) & (ds.pixel_array[..., 1] < 60)
        self.assertGreater(int(red.sum()), 20)

    def test_what_would_be_cut_is_named_and_a_wider_canvas_holds_it(self):
        image = self.volume()
        line = Mark("line", ((-8, 20, 4), (40, 20, 4)))
        table = burn_in(image, self.marks(line), self.place / "a", measured=False)
        self.assertEqual(table.rows[0][4], "cut: widen the canvas")
        table = burn_in(image, self.marks(line), self.place / "b", measured=False, widen=16)
        self.assertEqual(table.rows[0][4], "")
        ds = pydicom.dcmread(next((self.place / "b").glob("*.dcm")))
        self.assertEqual((ds.Columns, ds.Rows), (92, 82))
        self.assertEqual([float(v) for v in ds.ImagePositionPatient][2], 4.0)

    def test_marks_elsewhere_and_places_that_are_taken(self):
        image = self.volume()
        for marks, words in (
            (self.marks(Mark("line", ((0, 0, 90), (9, 0, 90)))), "lies in a slice of “CT”"),
            (Marks.numbered([Mark("line", ((0, 0, 4), (9, 0, 4)))], unit="px"), "counts in px"),
        ):
            with self.assertRaisesRegex(Trouble, words):
                burn_in(image, marks, self.place / "out")
            self.assertFalse((self.place / "out").exists())
        (self.place / "full").mkdir()
        (self.place / "full" / "mine.txt").write_text("mine")
        with self.assertRaises(Trouble):
            burn_in(image, self.marks(Mark("line", ((0, 0, 4), (9, 0, 4)))), self.place / "full")
        self.assertEqual([p.name for p in (self.place / "full").iterdir()], ["mine.txt"])

    def test_from_the_command_line(self):
        from kestrelmist.formats.saving import save_image

        path, marks = self.place / "p.nii.gz", self.place / "m.geojson"
        save_image(path, self.volume())
        kestrelmist("mark", path, "--shape", "length", "--points", "10,20,4; 40,20,4", "--out", marks)
        kestrelmist("burn-in", path, "--marks", marks, "--out", self.place / "series")
        self.assertEqual(len(list((self.place / "series").glob("*.dcm"))), 1)
        ran = kestrelmist("burn-in", path, "--marks", marks, "--out", self.place / "series", code=1)
        self.assertIn("already", ran.stderr)


if __name__ == "__main__":
    unittest.main()
