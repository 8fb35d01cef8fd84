"""Courses through time and seed maps, against formulas and numpy."""

import csv
import unittest
import unittest.mock

import numpy as np

from kestrelmist.core.axis import Axis
from kestrelmist.core.curve import Curve
from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap, LabelTable
from kestrelmist.core.operation import find_operation
from kestrelmist.core.space import Space
from kestrelmist.formats.opening import open_image
from kestrelmist.formats.saving import save_image
from kestrelmist.measure import correlate as correlating
from kestrelmist.measure.correlate import correlate
from kestrelmist.measure.course import course
from kestrelmist.measure.seed import held
from kestrelmist.scene.showing import two_sided
from tests.command import kestrelmist
from tests.making import PlaceCase, straight_space

RNG = np.random.default_rng(77)
SHAPE, COUNT, STEP = (9, 8, 7), 60, 2.0
SECONDS = STEP * np.arange(COUNT)
WAVE = np.sin(2 * np.pi * 5 * np.arange(COUNT) / COUNT)
"""Five periods: one in 24 s."""


def series(kind=np.float32, unit: str = "") -> Image:
    """Noise about 1000, a wave in the first half along i and its opposite in one corner."""
    data = RNG.normal(0, 1, (*SHAPE, COUNT))
    data[:4] += 3 * WAVE
    data[6:, 6:] -= 3 * WAVE
    data = np.asfortranarray(np.round(100 * data + 1000) if kind != np.float32 else 100 * data + 1000).astype(kind)
    axes = (Axis.even("time", COUNT, STEP, "s"),)
    return Image(data, straight_space(SHAPE, 0.5), "Run", "T-1", unit=unit, axes=axes)


def half(image: Image) -> LabelMap:
    labels = LabelMap(image.space, table=LabelTable().with_new("Half")[0])
    data = labels.data
    data[:4] = 1
    labels.recount()
    return labels


class CourseTest(unittest.TestCase):
    def setUp(self):
        self.image = series(unit="HU")
        self.labels = half(self.image)
        self.data = self.image.data.astype(float)

    def column(self, table, name="value"):
        return np.array(table.column(name), float)

    def test_a_voxel_a_ball_and_a_label(self):
        place = tuple(self.image.space.to_world((2, 3, 4)))
        table = course(self.image, self.labels, place)
        np.testing.assert_allclose(self.column(table), self.data[2, 3, 4])
        np.testing.assert_allclose(self.column(table, "time"), SECONDS)
        self.assertEqual([(c.name, c.unit) for c in table.columns], [("time", "s"), ("value", "HU")])
        ball = course(self.image, self.labels, place, ball=1.0)  # the voxel and its six neighbours, 0.5 mm away
        around = [(2, 3, 4), (1, 3, 4), (3, 3, 4), (2, 2, 4), (2, 4, 4), (2, 3, 3), (2, 3, 5)]
        np.testing.assert_allclose(self.column(ball), np.mean([self.data[v] for v in around], axis=0))
        whole = course(self.image, self.labels, label="Half", time_column=False)
        np.testing.assert_allclose(self.column(whole), self.data[:4].mean((0, 1, 2)))
        self.assertEqual([c.name for c in whole.columns], ["value"])

    def test_modes(self):
        place = tuple(self.image.space.to_world((1, 1, 1)))
        raw = self.data[1, 1, 1]
        for mode, wanted, unit in (
            ("mean removed", raw - raw.mean(), "HU"),
            ("z-score", (raw - raw.mean()) / raw.std(ddof=1), ""),
            ("scaled", 2 * (raw - raw.min()) / np.ptp(raw) - 1, ""),
            ("percent", 100 * (raw / raw.mean() - 1), "%"),
        ):
            table = course(self.image, self.labels, place, mode=mode)
            np.testing.assert_allclose(self.column(table), wanted, atol=1e-9, err_msg=mode)
            self.assertEqual(table.columns[1].unit, unit)

    def test_the_spectrum_has_its_peak_where_the_wave_is(self):
        table = course(self.image, self.labels, label="Half", mode="spectrum")
        frequencies, shares = self.column(table, "frequency"), self.column(table)
        self.assertEqual(table.columns[0].unit, "Hz")
        self.assertAlmostEqual(frequencies[shares.argmax()], 5 / (COUNT * STEP))
        self.assertAlmostEqual(shares.sum(), 100.0)
        self.assertGreater(shares.max(), 95)

    def test_what_is_no_course_is_a_sentence(self):
        flat = Image(np.full((*SHAPE, 5), 7, np.float32), self.image.space, "Flat", axes=(Axis("time", 5),))
        place = tuple(flat.space.to_world((1, 1, 1)))
        self.assertEqual(course(flat, self.labels, place).column("volume"), [1, 2, 3, 4, 5])
        for wrong, words in (
            (lambda: course(flat, self.labels, place, mode="z-score"), "does not change"),
            (lambda: course(flat, self.labels, place, mode="scaled"), "does not change"),
            (lambda: course(flat.frame((0,)), self.labels, place), "one volume"),
            (lambda: course(flat, self.labels, (99.0, 0.0, 0.0)), "outside"),
            (lambda: course(flat, self.labels), "no place to follow"),
            (lambda: course(flat, self.labels, label="Nothing"), "Nothing"),
            (lambda: correlate(flat, self.labels, place), "Nothing is left"),
            (lambda: find_operation("course").checked({"ball": -1.0}), "out of bounds"),
            (lambda: correlate(flat, self.labels, place, drift=60.0), "not known in s"),
        ):
            with self.assertRaisesRegex(Trouble, words):
                wrong()
        zero = Image(self.data - self.data.mean(-1, keepdims=True), self.image.space, axes=self.image.axes)
        with self.assertRaisesRegex(Trouble, "mean of this course is zero"):
            course(zero, self.labels, place, mode="percent")

    def test_values_that_are_none_do_not_count(self):
        data = np.array(self.image.data)
        data[0, 0, 0, 3] = np.nan
        data[:4, :, :, 5] = np.inf
        holes = Image(data, self.image.space, axes=self.image.axes)
        found = course(holes, self.labels, label="Half").column("value")
        self.assertIsNone(found[5])
        wanted = np.nanmean(np.where(np.isfinite(data[:4]), data[:4], np.nan).reshape(-1, COUNT)[:, 3])
        self.assertAlmostEqual(found[3], wanted, places=3)


class CorrelateTest(PlaceCase):
    def r(self, image: Image, seed: np.ndarray) -> np.ndarray:
        flat = image.data.reshape(-1, COUNT).astype(float)
        return np.array([np.corrcoef(seed, row)[0, 1] for row in flat]).reshape(image.space.shape)

    def test_as_numpy_has_it(self):
        image = series()
        labels, place = half(image), tuple(image.space.to_world((2, 3, 4)))
        self.assertIsNotNone(held(image))
        made = correlate(image, labels, place)
        np.testing.assert_allclose(made.data, self.r(image, image.data[2, 3, 4]), atol=2e-6)
        self.assertAlmostEqual(float(made.data[2, 3, 4]), 1.0, places=6)
        whole = correlate(image, labels, label="Half")
        np.testing.assert_allclose(whole.data, self.r(image, image.data[:4].mean((0, 1, 2))), atol=2e-6)
        self.assertGreater(float(whole.data[:4].min()), 0.6)
        self.assertLess(float(whole.data[6:, 6:].max()), -0.6)
        self.assertTrue(two_sided(whole))

    def test_the_change_is_that_of_least_squares(self):
        image = series()
        image.unit = "per cent"
        labels = half(image)
        t = np.arange(COUNT)
        course, other = (t // 4 % 2).astype(float), np.sin(t / 3.0)
        curve, breath = Curve(course, name="odour"), [Curve(other, name="breath")]
        made = correlate(image, labels, curve=curve, without=breath, gives="change")
        basis = np.array([course, other, np.ones(COUNT)]).T
        flat = image.data.reshape(-1, COUNT).T.astype(float)
        wanted = np.linalg.lstsq(basis, flat, rcond=None)[0][0]
        np.testing.assert_allclose(made.data.reshape(-1), wanted, atol=1e-5 * np.abs(wanted).max())
        self.assertEqual((made.unit, made.name), ("per cent", f"{image.name}, change with odour"))
        self.assertTrue(two_sided(made))
        twice = correlate(image, labels, curve=Curve(2 * course), without=breath, gives="change")
        np.testing.assert_allclose(twice.data, made.data / 2, rtol=1e-5, atol=1e-6)
        data = np.array(image.data)
        data[0, 0, 0], data[1, 0, 0, 3] = 7.0, np.nan
        made = correlate(Image(data, image.space, axes=image.axes), labels, curve=curve, gives="change")
        self.assertEqual(made.data[0, 0, 0], 0.0)
        self.assertTrue(np.isnan(made.data[1, 0, 0]))

    def test_from_files_in_blocks_as_in_memory(self):
        image = series(np.int16)
        labels = half(image)
        wanted = correlate(image, labels, label="Half").data
        floats = Image(image.data.astype(np.float32), image.space, axes=image.axes)
        for name, given in (("r.nii.gz", image), ("r.nii", image), ("r.nrrd", image), ("f.nii", floats)):
            save_image(self.place / name, given)
            for block in (correlating.BLOCK, 4 * 7 * int(np.prod(SHAPE))):
                with (
                    unittest.mock.patch.object(correlating, "BLOCK", block),
                    unittest.mock.patch.object(correlating, "STRETCH", block),
                ):
                    found = correlate(open_image(self.place / name), labels, label="Half").data
                np.testing.assert_allclose(found, wanted, atol=2e-6)

    def test_drift_and_the_mean_course_are_taken_out(self):
        image = series()
        slow = 4000 * np.cos(np.pi * 2 * (np.arange(COUNT) + 0.5) / COUNT)
        moved = Image(image.data + slow.astype(np.float32), image.space, "Moved", axes=image.axes)
        labels = half(image)
        self.assertGreater(float(correlate(moved, labels, label="Half").data.min()), 0.9)  # drift alone makes all alike
        made = correlate(moved, labels, label="Half", drift=100.0)
        t = np.arange(COUNT)
        basis = np.array([np.cos(np.pi * n * (t + 0.5) / COUNT) for n in range(int(2 * COUNT * STEP / 100) + 1)]).T
        flat = moved.data.reshape(-1, COUNT).T.astype(float)
        left = flat - basis @ np.linalg.lstsq(basis, flat, rcond=None)[0]
        seed = left[:, labels.data.reshape(-1) == 1].mean(1)
        wanted = (seed @ left) / np.linalg.norm(seed) / np.linalg.norm(left, axis=0)
        np.testing.assert_allclose(made.data.reshape(-1), wanted, atol=1e-3)
        self.assertLess(float(made.data[6:, 6:].max()), -0.5)
        without = correlate(image, labels, label="Half", mean_course=True)
        mean = image.data.reshape(-1, COUNT).mean(0).astype(float)
        basis = np.array([np.ones(COUNT), mean]).T
        flat = image.data.reshape(-1, COUNT).T.astype(float)
        left = flat - basis @ np.linalg.lstsq(basis, flat, rcond=None)[0]
        seed = left[:, labels.data.reshape(-1) == 1].mean(1)
        wanted = (seed @ left) / np.linalg.norm(seed) / np.linalg.norm(left, axis=0)
        np.testing.assert_allclose(without.data.reshape(-1), wanted, atol=1e-3)

    def test_scales_holes_and_masks(self):
        image = series()
        labels = half(image)
        wanted = correlate(image, labels, label="Half").data
        for factor, shift in ((1e-6, 0.0), (1e6, 0.0), (1e-3, -1e3)):
            scaled = Image((image.data.astype(float) * factor + shift).astype(np.float32), image.space, axes=image.axes)
            found = correlate(scaled, labels, label="Half").data
            tolerance = 0.05 if shift else 2e-5  # float32 holds few digits of a small change on a large value
            np.testing.assert_allclose(found, wanted, atol=tolerance, err_msg=str(factor))
        data = np.array(image.data)
        data[8, 0, 0] = 5.0
        data[8, 1, 0, 7] = np.nan
        holes = correlate(Image(data, image.space, axes=image.axes), labels, label="Half", mask=labels)
        self.assertTrue(np.isnan(holes.data[4:]).all())
        np.testing.assert_allclose(holes.data[:4], wanted[:4], atol=2e-6)
        holes = correlate(Image(data, image.space, axes=image.axes), labels, label="Half")
        self.assertTrue(np.isnan(holes.data[8, 0, 0]) and np.isnan(holes.data[8, 1, 0]))
        one = Image(image.data[2:3, 3:4, 4:5], Space((1, 1, 1), np.eye(4)), axes=image.axes)
        self.assertAlmostEqual(float(correlate(one, LabelMap(one.space), (0, 0, 0)).data[0, 0, 0]), 1.0, places=5)

    def test_on_the_command_line(self):
        image = series(np.int16)
        save_image(self.place / "run.nii.gz", image)
        place = ",".join(f"{v:g}" for v in image.space.to_world((2, 3, 4)))
        out = self.place / "r.nii.gz"
        kestrelmist("correlate", self.place / "run.nii.gz", "--point", place, "--ball", 1, "--out", out)
        made = open_image(out)
        self.assertGreater(float(made.data[:4].min()), 0.3)
        self.assertEqual(made.space.shape, SHAPE)
        table = self.place / "c.csv"
        kestrelmist("course", self.place / "run.nii.gz", "--point", place, "--mode", "percent", "--out", table)
        with open(table, newline="") as stream:
            rows = list(csv.reader(stream))
        self.assertEqual((rows[0], len(rows)), (["time", "time_unit", "value", "value_unit"], COUNT + 1))
        self.assertEqual((rows[1][1], rows[1][3], float(rows[2][0])), ("s", "%", STEP))
        raw = image.data[2, 3, 4].astype(float)
        np.testing.assert_allclose([float(r[2]) for r in rows[1:]], 100 * (raw / raw.mean() - 1), atol=1e-3)
        said = kestrelmist("correlate", self.place / "run.nii.gz", "--out", out, code=1).stderr
        self.assertIn("no place to follow", said)


if __name__ == "__main__":
    unittest.main()
