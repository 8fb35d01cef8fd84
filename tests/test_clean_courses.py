"""Slow changes and curves taken out of a series; against least squares by an independent library."""

import unittest

import numpy as np

from kestrelmist.core.axis import Axis
from kestrelmist.core.curve import Curve
from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.progress import silent
from kestrelmist.formats.curve_files import read_curve
from kestrelmist.formats.opening import open_image
from kestrelmist.formats.saving import save_image, save_thing
from kestrelmist.prepare.clean_courses import clean_courses
from tests.command import kestrelmist
from tests.making import PlaceCase, straight_space

COUNT, STEP = 120, 2.0
RNG = np.random.default_rng(77)
TIMES = STEP * np.arange(COUNT)
MOTION = np.cumsum(RNG.normal(size=COUNT))
TASK = np.sin(2 * np.pi * TIMES / 20)


def series(data: np.ndarray, **changes) -> Image:
    given = {"axes": (Axis.even("time", COUNT, STEP, "s"),), **changes}
    return Image(np.asfortranarray(data, np.float32), straight_space(data.shape[:3], 1.0), "Run", "T-1", **given)


def whole(image: Image) -> np.ndarray:
    return np.stack([image.frame((n,)).fetch(silent()) for n in range(image.axes[0].size)], -1)


class CleanTest(PlaceCase):
    def setUp(self):
        super().setUp()
        self.data = 1000 + RNG.normal(0, 5, (5, 4, 3, COUNT)) + 3 * MOTION + 8 * TASK + 0.2 * TIMES
        self.curve = Curve(MOTION + 50, TIMES, "s", "mm", name="Shift")

    def test_is_least_squares_with_the_mean_kept(self):
        found = whole(clean_courses(series(self.data), 100.0, [self.curve]))
        rows = [np.cos(np.pi * n * (np.arange(COUNT) + 0.5) / COUNT) for n in range(1, 5)]
        design = np.array([np.ones(COUNT), *rows, MOTION]).T
        flat = self.data.reshape(-1, COUNT).T
        fit = np.linalg.lstsq(design, flat, rcond=None)[0]
        taken = design[:, 1:] @ fit[1:]
        wanted = (flat - taken + taken.mean(0)).T.reshape(self.data.shape)
        np.testing.assert_allclose(found, wanted, atol=2e-3)
        np.testing.assert_allclose(found.mean(-1), self.data.mean(-1), atol=2e-3)

    def test_the_task_stays_and_the_motion_goes(self):
        found = whole(clean_courses(series(self.data), 100.0, [self.curve])).mean((0, 1, 2))
        self.assertGreater(np.corrcoef(found, TASK)[0, 1], 0.98)
        self.assertLess(abs(np.corrcoef(found, MOTION)[0, 1]), 1e-3)

    def test_any_scale_and_curves_that_say_the_same(self):
        once = whole(clean_courses(series(self.data), 0.0, [self.curve]))
        twice = [self.curve, Curve(2 * MOTION, name="Again"), Curve(np.ones(COUNT), name="Flat")]
        np.testing.assert_allclose(whole(clean_courses(series(self.data), 0.0, twice)), once, atol=2e-3)
        for factor in (1e-5, 1e4):
            scaled = whole(clean_courses(series(self.data * factor), 0.0, [self.curve]))
            np.testing.assert_allclose(scaled / factor, once, atol=5e-3)
        large = whole(clean_courses(series(self.data + 1e5), 0.0, [self.curve])) - 1e5
        np.testing.assert_allclose(large, once, atol=0.1)

    def test_a_voxel_without_a_value_has_none(self):
        self.data[1, 2, 0, 30] = np.nan
        found = whole(clean_courses(series(self.data), 100.0))
        self.assertTrue(np.isnan(found[1, 2, 0]).all())
        self.assertEqual(np.isnan(found).sum(), COUNT)

    def test_what_cannot_be_done_is_said(self):
        image = series(self.data)
        one = Image(np.asfortranarray(self.data[..., 0]), image.space, "One", "T-1")
        unknown = series(self.data, axes=(Axis("time", COUNT),))
        holed = Curve(np.where(np.arange(COUNT) == 4, np.nan, MOTION), name="Holed")
        many = [Curve(RNG.normal(size=COUNT), name=f"{n}") for n in range(COUNT)]
        for said, given in (
            ("not a series", (one, 100.0)),
            ("Nothing is to be taken out", (image,)),
            ("Nothing is to be taken out", (image, 0.0, [Curve(np.ones(COUNT), name="Flat")])),
            ("not known in s", (unknown, 100.0)),
            ("3 values", (image, 0.0, [Curve(np.arange(3.0), name="Short")])),
            ("no value in some", (image, 0.0, [holed])),
            ("leave nothing", (image, 0.0, many)),
            ("nearly all", (image, 3.0)),
        ):
            with self.subTest(said), self.assertRaisesRegex(Trouble, said):
                clean_courses(*given)

    def test_on_the_command_line(self):
        run, out, curve = (self.place / name for name in ("run.nii.gz", "out.nii.gz", "shift.csv"))
        save_image(run, series(self.data))
        save_thing(curve, self.curve)
        kestrelmist("clean-courses", run, "--slower", 100, "--without", curve, "--out", out)
        wanted = whole(clean_courses(open_image(run), 100.0, [read_curve(curve)]))
        again = open_image(out)
        np.testing.assert_allclose(whole(again), wanted, atol=1e-3)
        self.assertEqual((again.axes[0].size, again.axes[0].step), (COUNT, STEP))


if __name__ == "__main__":
    unittest.main()
