"""Profiles of marks and their peaks, against closed formulas: several lines, bands, edges, outwards; half widths with
what is stated of them."""

import unittest

import numpy as np
from scipy import ndimage

from kestrelmist.core.errors import Trouble
from kestrelmist.core.geometry.mark import Mark
from kestrelmist.core.geometry.marks import Marks
from kestrelmist.core.image import Image
from kestrelmist.core.scale import FACT, Scale
from kestrelmist.core.space import picture_space
from kestrelmist.formats.saving import save_thing
from kestrelmist.formats.table_files import read_csv
from kestrelmist.measure.profiles.paths import along, outwards
from kestrelmist.measure.profiles.profile_marks import profile_marks
from tests.command import kestrelmist
from tests.making import PlaceCase

SIDE, PIXEL = 160, 0.01
SPACE = picture_space(SIDE, SIDE, (PIXEL, PIXEL))
HALF = 2 * np.sqrt(2 * np.log(2))
"""Full width at half maximum of a Gaussian of standard deviation 1."""
UP = (0.0, 0.0, 1.0)


def places() -> np.ndarray:
    """World positions of all pixels (n, 3), i first."""
    i, j = np.meshgrid(np.arange(SIDE), np.arange(SIDE), indexing="ij")
    return SPACE.to_world(np.stack((i.ravel(), j.ravel(), 0 * i.ravel()), 1))


def image_of(values: np.ndarray, **more) -> Image:
    return Image(np.asfortranarray(values.reshape(SIDE, SIDE, 1).astype(np.float32)), SPACE, "made up", **more)


def marks_of(*marks: Mark) -> Marks:
    return Marks.numbered(list(marks), world=SPACE.world, name="Lines")


def line(*points, shape="line", **more) -> Mark:
    return Mark(shape, tuple((*p, 0.0) for p in points), normal=UP, **more)


class AlongTest(unittest.TestCase):
    def test_a_band_along_a_polyline_is_what_the_formula_says(self):
        x, y = places()[:, 0], places()[:, 1]
        image = image_of(30 + 20 * x - 50 * y)
        path = line((-0.5, -0.4), (0.3, -0.4), (0.3, 0.5), shape="polyline")
        found = along(image, path, 0.06)
        self.assertAlmostEqual(found.along[-1], 1.7)
        at = found.along
        expected = np.where(at < 0.8, 30 + 20 * (at - 0.5) + 20, 30 + 6 - 50 * (at - 1.2))
        np.testing.assert_allclose(found.mean, expected, atol=0.01)
        offsets = np.linspace(-0.03, 0.03, 13)
        self.assertEqual(found.count.tolist(), [13] * len(at))
        np.testing.assert_allclose(found.sd[:10], np.std(50 * offsets, ddof=1), rtol=1e-3)

    def test_the_edge_of_what_is_closed_comes_round(self):
        image = image_of(100 * np.arctan2(places()[:, 1], places()[:, 0]))
        square = line((-0.3, -0.3), (0.3, -0.3), (0.3, 0.3), (-0.3, 0.3), shape="polygon")
        found = along(image, square, 0.0)
        self.assertAlmostEqual(found.along[-1], 2.4)
        self.assertAlmostEqual(found.mean[0], found.mean[-1], places=3)

    def test_where_there_are_no_values(self):
        values = np.full(SIDE * SIDE, 5.0)
        values[places()[:, 0] > 0.2] = np.nan
        found = along(image_of(values), line((-0.3, 0), (0.5, 0)), 0.0)
        self.assertTrue(np.isnan(found.mean[-1]))
        np.testing.assert_allclose(found.mean[np.isfinite(found.mean)], 5.0)
        with self.assertRaisesRegex(Trouble, "A line meets no value of “made up”"):
            along(image_of(values), line((0.4, 0), (0.6, 0)), 0.0)
        with self.assertRaisesRegex(Trouble, "shorter than a voxel"):
            along(image_of(values), line((0.4, 0), (0.402, 0)), 0.0)


class OutwardsTest(unittest.TestCase):
    def test_a_disc_falls_at_its_rim(self):
        away = np.hypot(places()[:, 0] - 0.1, places()[:, 1] + 0.05)
        image = image_of(200 / (1 + np.exp((away - 0.3) / 0.01)))
        circle = line((0.6, -0.05), (0.1, 0.45), (-0.4, -0.05), shape="circle")
        found = outwards(image, circle, 1.2)
        self.assertAlmostEqual(found.along[-1], 0.6, delta=0.002)
        np.testing.assert_allclose(found.mean, 200 / (1 + np.exp((found.along - 0.3) / 0.01)), atol=1.0)
        self.assertLess(np.nanmax(found.sd), 3.0)

    def test_an_ellipse_by_its_own_shape(self):
        x, y = places()[:, 0], places()[:, 1]
        image = image_of(np.where((x / 0.4) ** 2 + (y / 0.2) ** 2 < 1, 90.0, 10.0))
        ellipse = line((0.4, 0), (0, 0.2), (-0.4, 0), (0, -0.2), shape="ellipse")
        found = outwards(image, ellipse, 1.5)
        rim = found.along[-1] / 1.5
        self.assertTrue((np.abs(found.mean[found.along < 0.9 * rim] - 90) < 1).all())
        self.assertTrue((np.abs(found.mean[found.along > 1.1 * rim] - 10) < 1).all())
        with self.assertRaisesRegex(Trouble, "has no inside"):
            outwards(image, line((0, 0), (0.2, 0)), 1.0)


class PeaksTest(unittest.TestCase):
    def test_widths_of_gaussians_without_noise(self):
        for turn, sigma in ((0.0, 0.03), (0.7, 0.03), (0.3, 0.015)):
            way = np.array((np.cos(turn), np.sin(turn), 0))
            s = places() @ way
            values = 50 + 100 * np.exp(-((s - 0.1) ** 2) / 2 / sigma**2) - 5 * s  # on a slope
            values += 60 * np.exp(-((s + 0.2) ** 2) / 2 / 0.02**2)
            drawn = marks_of(Mark("line", (tuple(-0.5 * way), tuple(0.5 * way)), normal=UP))
            for sign, look in ((1, "bright"), (-1, "dark")):
                peaks = profile_marks(drawn, image_of(sign * values), look=look).peaks.as_records()
                self.assertEqual([round(p["at"], 2) for p in peaks], [0.3, 0.6])
                for peak, true, high in zip(peaks, (0.02, sigma), (60, 100)):
                    self.assertAlmostEqual(peak["width"] / (HALF * true), 1, delta=0.02, msg=(turn, sigma, look))
                    self.assertAlmostEqual(abs(peak["height"] - peak["ground"]), high, delta=0.03 * high)

    def test_true_widths_lie_inside_what_is_stated(self):
        rng, inside, count = np.random.default_rng(5), {"at": 0, "width": 0}, 100
        way = np.array((np.cos(0.5), np.sin(0.5), 0))
        s = places() @ way
        drawn = marks_of(Mark("line", (tuple(-0.5 * way), tuple(0.5 * way)), normal=UP))
        for _ in range(count):
            at = rng.uniform(-0.05, 0.05)
            values = 50 + 100 * np.exp(-((s - at) ** 2) / 2 / 0.025**2) + rng.normal(0, 5, len(s))
            (peak,) = profile_marks(drawn, image_of(values), 0.04).peaks.as_records()
            inside["at"] += abs(peak["at"] - 0.5 - at) <= peak["sure_at"]
            inside["width"] += abs(peak["width"] - HALF * 0.025) <= peak["sure_width"]
        for name, found in inside.items():
            self.assertGreaterEqual(found, 88, name)

    def test_noise_that_goes_together_makes_them_less_sure(self):
        rng, inside, count = np.random.default_rng(8), {"at": 0, "width": 0}, 80
        s = places()[:, 0]
        for _ in range(count):
            at = rng.uniform(-0.05, 0.05)
            noise = ndimage.gaussian_filter(rng.normal(0, 1, (SIDE, SIDE)), 1.5)
            values = 50 + 100 * np.exp(-((s - at) ** 2) / 2 / 0.03**2) + 5 * noise.ravel() / noise.std()
            found = profile_marks(marks_of(line((-0.5, 0.003), (0.5, 0.003))), image_of(values)).peaks.as_records()
            peak = max(found, key=lambda one: one["height"])
            inside["at"] += abs(peak["at"] - 0.5 - at) <= peak["sure_at"]
            inside["width"] += abs(peak["width"] - HALF * 0.03) <= peak["sure_width"]
        for name, found in inside.items():
            self.assertGreaterEqual(found, 0.86 * count, name)

    def test_noise_alone_has_no_peaks(self):
        rng = np.random.default_rng(6)
        told = [len(profile_marks(marks_of(line((-0.6, 0.01), (0.6, 0.02))),
                                  image_of(rng.normal(0, 3, SIDE * SIDE))).peaks.rows) for _ in range(20)]  # fmt: skip
        self.assertLessEqual(sum(told), 1)

    def test_a_scale_makes_widths_less_sure(self):
        s = places()[:, 0]
        values = 50 + 100 * np.exp(-(s**2) / 2 / 0.03**2)
        scale = Scale("mm", "by calibration “ten”", (0.01, 0.01, 0.0), calibration="ten")
        image = image_of(values, facts={FACT: scale.fact})
        (peak,) = profile_marks(marks_of(line((-0.5, 0.003), (0.5, 0.003))), image).peaks.as_records()
        self.assertAlmostEqual(peak["sure_width"], 1.96 * 0.01 * peak["width"], delta=2e-4)
        self.assertIn("ten", peak["scale"])

    def test_a_peak_at_the_end_has_no_width(self):
        values = 100 * np.exp(-((places()[:, 0] - 0.49) ** 2) / 2 / 0.05**2)
        (peak,) = profile_marks(marks_of(line((-0.5, 0.003), (0.5, 0.003))), image_of(values)).peaks.as_records()
        self.assertIsNone(peak["width"])


class ProfilesByCommandTest(PlaceCase):
    def test_several_marks_from_files(self):
        x, y = places()[:, 0], places()[:, 1]
        save_thing(self.place / "p.nii.gz", image_of(np.exp(-(x**2) / 2 / 0.04**2) * 50 + y))
        drawn = marks_of(line((-0.4, 0), (0.4, 0), name="one"), line((-0.4, 0.2), (0.4, 0.2), name="two"),
                         Mark("point", ((0, 0, 0),)))  # fmt: skip
        save_thing(self.place / "m.geojson", drawn)
        kestrelmist("profile-marks", self.place / "m.geojson", "--image", self.place / "p.nii.gz", "--width", "50 um",
                    "--out", self.place / "t.csv", "--out-peaks", self.place / "peaks.csv")  # fmt: skip
        peaks = read_csv(self.place / "peaks.csv").as_records()
        self.assertEqual([p["name"] for p in peaks], ["one", "two"])
        for peak in peaks:
            self.assertAlmostEqual(peak["width"], HALF * 0.04, delta=1e-3)
            self.assertEqual(peak["width_unit"], "mm")
        table = read_csv(self.place / "t.csv").as_records()
        self.assertEqual({row["mark"] for row in table}, {1, 2})
        none = kestrelmist("profile-marks", self.place / "m.geojson", "--image", self.place / "p.nii.gz", "--way",
                           "outwards", code=1)  # fmt: skip
        self.assertIn("has no closed marks", none.stderr)


if __name__ == "__main__":
    unittest.main()
