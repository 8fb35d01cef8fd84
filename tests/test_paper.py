"""Pictures at their size on paper: pixels, dots an inch, letters; and marks measured through a series."""

import re
import unittest

import numpy as np
from PIL import Image as Picture

from kestrelmist.core.axis import Axis
from kestrelmist.core.errors import Trouble
from kestrelmist.core.geometry.mark import Mark
from kestrelmist.core.geometry.marks import Marks
from kestrelmist.core.image import Image
from kestrelmist.core.space import Space
from kestrelmist.formats.saving import save_thing
from kestrelmist.measure.regions.measure_marks import measure_marks_series
from kestrelmist.report.paper import LETTERS, Paper
from kestrelmist.report.picture import picture
from tests.command import kestrelmist
from tests.making import PlaceCase, two_balls


class PaperTest(PlaceCase):
    def test_pixels_and_dots_an_inch(self):
        for columns, wide, dpi in (("one column", 85.0, 300), ("two columns", 174.0, 150), ("", 100.0, 600)):
            path = self.place / f"{columns}{dpi}.png"
            paper = Paper(columns, None if columns else wide, dpi)
            picture(two_balls(), to=path, size="900x600", paper=paper)
            with Picture.open(path) as made:
                self.assertEqual(made.size[0], round(wide / 25.4 * dpi))
                self.assertAlmostEqual(made.size[0] / made.size[1], 1.5, delta=0.01)
                self.assertAlmostEqual(made.info["dpi"][0], dpi, delta=0.5)

    def test_words_are_as_large_on_paper_whatever_the_dots(self):
        sizes = []
        for dpi in (150, 300):
            path = self.place / f"{dpi}.svg"
            picture(two_balls(), to=path, paper=Paper("one column", dpi=dpi))
            text = path.read_text()
            wide = float(re.search(r'width="([\d.]+)mm"', text).group(1))
            self.assertAlmostEqual(wide, 85.0, delta=0.1)
            box = [float(v) for v in re.search(r'viewBox="([^"]+)"', text).group(1).split()]
            size = float(re.search(r'font-size="([\d.]+)', text).group(1))
            sizes.append(size * wide / box[2])
        self.assertAlmostEqual(sizes[0], sizes[1], delta=0.03)
        self.assertAlmostEqual(LETTERS * 12 / 25.4 * 72, 8.0)

    def test_what_cannot_be(self):
        with self.assertRaisesRegex(Trouble, "as wide as columns, or so many mm"):
            picture(two_balls(), to=self.place / "a.png", paper=Paper("one column", 85.0))
        with self.assertRaisesRegex(Trouble, "megapixels.*fewer dots"):
            picture(two_balls(), to=self.place / "a.png", paper=Paper("", 2000.0, 2400))
        self.assertFalse((self.place / "a.png").exists())

    def test_by_command(self):
        save_thing(self.place / "b.nii.gz", two_balls())
        kestrelmist("picture", self.place / "b.nii.gz", "--columns", "one column", "--dpi", "150", "--to",
                    self.place / "p.tif")  # fmt: skip
        with Picture.open(self.place / "p.tif") as made:
            self.assertEqual(made.size[0], 502)
            self.assertAlmostEqual(float(made.info["dpi"][0]), 150, delta=0.5)


class MarksThroughSeriesTest(unittest.TestCase):
    def test_a_row_a_mark_and_volume(self):
        space = Space((10, 10, 4), np.eye(4))
        values = np.zeros((10, 10, 4, 3), np.int16, order="F")
        for n in range(3):
            values[..., n] = 10 * n
            values[2:5, 2:5, 1, n] += 5
        image = Image(values, space, "Run", axes=[Axis("time", 3, "s", (0.0, 2.0, 4.0))])
        up = (0.0, 0.0, 1.0)
        square = tuple((x, y, 1.0) for x, y in ((1.6, 1.6), (4.4, 1.6), (4.4, 4.4), (1.6, 4.4)))
        marks = Marks.numbered(
            [Mark("polygon", square, normal=up), Mark("polygon", square, normal=up, place=(2,))], name="M"
        )
        rows = measure_marks_series(marks, image, "mean").as_records()
        self.assertEqual([r["mean"] for r in rows if r["mark"] == 1], [5.0, 15.0, 25.0])
        self.assertEqual([r["mean"] for r in rows if r["mark"] == 2], [None, None, 25.0])
        self.assertEqual(len({r["time"] for r in rows}), 3)


if __name__ == "__main__":
    unittest.main()
