"""Values: calculated, matched, clipped, through time, projected; noise and uneven brightness; against known truth."""

import unittest

import numpy as np
from scipy import ndimage

from kestrelmist.checks.notice import Subject, run_checks
from kestrelmist.core.axis import Axis
from kestrelmist.core.caveat import VALUES_LOST
from kestrelmist.core.errors import Trouble
from kestrelmist.core.formula import Formula
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap, LabelTable
from kestrelmist.core.space import picture_space
from kestrelmist.formats.opening import open_image
from kestrelmist.formats.saving import save_image
from kestrelmist.prepare.grid.along import project, through_time
from kestrelmist.prepare.grid.one_place import one_place
from kestrelmist.prepare.intensity.calculate import calculate
from kestrelmist.prepare.intensity.denoise import noise_level, reduce_noise
from kestrelmist.prepare.intensity.evenness import even_background, even_brightness
from kestrelmist.prepare.intensity.values import clip, match_values, number_type, standardise, turn_values
from tests.command import kestrelmist
from tests.making import PlaceCase, straight_space

RNG = np.random.default_rng(31)


def image(values, spacing: float = 1.0, **more) -> Image:
    values = np.asarray(values)
    if "axes" in more:
        return Image(np.asfortranarray(values), straight_space(values.shape[:3], spacing), "Run", "T-1", **more)
    return Image(np.asfortranarray(values), straight_space(values.shape, spacing), "Image", "T-1", **more)


class FormulaTest(unittest.TestCase):
    def test_the_same_as_numpy(self):
        a, b = RNG.normal(size=(5, 6)), RNG.normal(size=(5, 6)) + 3
        for text, wanted in (
            ("a - 0.5*b", a - 0.5 * b),
            ("where(a > 0, a, -b)", np.where(a > 0, a, -b)),
            ("max(a, b, 1)", np.maximum(np.maximum(a, b), 1)),
            ("abs(a)**2 / b", np.abs(a) ** 2 / b),
            ("0 < a < 1", (a > 0) & (a < 1)),
            ("(a > 0) & ~(b > 3)", (a > 0) & ~(b > 3)),
            ("sqrt(b) + log(b) % 2 - -pi", np.sqrt(b) + np.log(b) % 2 + np.pi),
            ("a > 0 and b > 3 or a < -1", ((a > 0) & (b > 3)) | (a < -1)),
            ("a > 0 & b > 3 | a < -1", ((a > 0) & (b > 3)) | (a < -1)),
            ("a > 0 && a < 1 || ~ b > 3", ((a > 0) & (a < 1)) | ~(b > 3)),
            ("~(a > 0) | b == 3", ~(a > 0) | (b == 3)),
            ("a + (a > 0 & a < 1)", a + ((a > 0) & (a < 1))),
            ("where(a>0&b>3, 1, 0)", (a > 0) & (b > 3)),
        ):
            np.testing.assert_allclose(Formula(text, "ab")({"a": a, "b": b}), wanted.astype(np.float32), rtol=1e-5)
        for value, between in ((5, 0), (10, 0), (15, 1), (20, 0), (100, 0)):
            self.assertEqual(float(Formula("a > 10 & a < 20", "a")({"a": np.float32(value)})), between)
        for text in ("a & ", "& a", "a ~ b", "a > ~b", "a &&& b"):
            with self.assertRaisesRegex(Trouble, "cannot be read as a formula"):
                Formula(text, "ab")
        for text in ("a + 1/0", "a + 10**400", "a * (-8)**0.5", "a + 1 % 0", "a + 0/0", "a + 9**9**9"):
            with self.subTest(text):
                self.assertTrue(np.isnan(Formula(text, "ab")({"a": np.ones((2, 2), np.float32)})).all())
        kept = Formula("0.5 * a + pi", "a")._body({"a": np.ones(3, np.float32)})
        self.assertEqual(kept.dtype, np.float32)  # a number does not make an image twice as large
        found = Formula("1/a + log(b)", "ab")({"a": np.array([0.0, 1.0]), "b": np.array([1.0, -1.0])})
        self.assertTrue(np.isnan(found).all())

    def test_nothing_else_can_be_asked_for(self):
        for text in (
            "__import__('os').system('true')",
            "a.__class__",
            "a[0]",
            "(lambda: a)()",
            "[a for a in b]",
            "open('x')",
            "a if b else a",
            "f'{a}'",
            "eval('a')",
            "a := b",
            "c + a",
            "'text' + a",
            "min(a)",
            "where(a, b)",
            "abs(x=a)",
            "a +",
            "",
            "1 + 2",
            "((((" * 500 + "a",
            "a" + " + a" * 2000,
            "True + a",
            "a if",
        ):
            with self.assertRaises(Trouble, msg=text):
                Formula(text, "ab")


class CalculateTest(PlaceCase):
    def test_images_on_other_grids_and_series(self):
        one, other = image(np.full((8, 8, 8), 6.0, np.float32)), image(np.full((4, 4, 4), 2, np.int16), 2.0)
        made = calculate(one, "a / b", [other])
        np.testing.assert_allclose(made.data, 3.0)
        axes = (Axis("time", 3),)
        run = image(np.stack([np.full((8, 8, 8), float(n + 1), np.float32) for n in range(3)], -1), axes=axes)
        made = calculate(run, "100 * a / b", [through_time(run)])
        self.assertEqual(made.count, 3)
        self.assertAlmostEqual(float(made.frame((2,)).data[0, 0, 0]), 150.0)
        save_image(self.place / "a.nii.gz", one)
        save_image(self.place / "b.nii.gz", other)
        words = (
            "--formula",
            "where(a > b, a - b, 0)",
            "--others",
            self.place / "b.nii.gz",
            "--out",
            self.place / "c.nii",
        )
        kestrelmist("calculate", self.place / "a.nii.gz", *words)
        np.testing.assert_allclose(open_image(self.place / "c.nii").data, 4.0)
        short = image(np.zeros((8, 8, 8, 2), np.float32), axes=(Axis("time", 2),))
        with self.assertRaisesRegex(Trouble, "different numbers of volumes: 2, 3"):
            calculate(run, "a + b", [short])
        ran = kestrelmist(
            "calculate", self.place / "a.nii.gz", "--formula", "a *", "--out", self.place / "d.nii", code=1
        )
        self.assertIn("cannot be read as a formula", ran.stderr)
        self.assertFalse((self.place / "d.nii").exists())

    def test_what_loses_its_value_is_said(self):
        half = np.ones((8, 8, 8), np.float32)
        half[:4] = 0
        half[7, 7, 7] = np.nan  # had none before
        made = calculate(image(half), "1 / a")
        self.assertEqual(int(np.isnan(made.data).sum()), 257)
        (caveat,) = made.caveats
        self.assertEqual(caveat.code, VALUES_LOST)
        self.assertIn("256 voxels (50 %) have no value", caveat.sentence)
        (notice,) = [n for n in run_checks(Subject(made, LabelMap(made.space)), "prepare") if n.level == "look"]
        self.assertEqual(notice.sentence, f"{caveat.sentence}.")
        self.assertEqual(calculate(image(half), "a + 1").caveats, [])
        for text in ("a / 0", "log(-a)", "a * nan"):
            with self.subTest(text), self.assertRaisesRegex(Trouble, "No voxel of"):
                calculate(image(np.ones((4, 4, 4), np.float32)), text)
        run = calculate(image(np.stack([half, half], -1), axes=(Axis("time", 2),)), "log(a)")
        self.assertIn("in the first volume", run.caveats[0].sentence)
        logs = turn_values(image(half), "logarithm")
        self.assertIn("256 voxels", logs.caveats[0].sentence)
        save_image(self.place / "half.nii.gz", image(half))
        out = ("--out", self.place / "o.nii.gz")
        ran = kestrelmist("calculate", self.place / "half.nii.gz", "--formula", "1/a", *out)
        self.assertIn("256 voxels (50 %) have no value", ran.stdout)
        ran = kestrelmist("calculate", self.place / "half.nii.gz", "--formula", "a/0", *out, code=1)
        self.assertIn("No voxel of", ran.stderr)

    def test_one_place_along_an_axis(self):
        data = np.arange(2 * 2 * 2 * 4 * 3, dtype=np.float32).reshape(2, 2, 2, 4, 3)
        run = image(data, axes=(Axis.even("time", 4, 2.0, "s"), Axis("echo", 3)))
        echo = one_place(run, "echo", 2)
        self.assertEqual([(a.name, a.size, a.step) for a in echo.axes], [("time", 4, 2.0)])
        for n in range(4):
            np.testing.assert_array_equal(echo.frame((n,)).data, data[..., n, 1])
        volume = one_place(echo, "time", 4)
        self.assertEqual((volume.axes, volume.name), ((), f"{run.name}, echo 2, time 6 s"))
        np.testing.assert_array_equal(volume.data, data[..., 3, 1])
        for given, said in ((("phase", 1), "choose one of: time, echo"), (("echo", 4), "from 1 to 3")):
            with self.assertRaisesRegex(Trouble, said):
                one_place(run, *given)
        with self.assertRaisesRegex(Trouble, "not a series"):
            one_place(volume, "time")
        save_image(self.place / "run.nii.gz", echo)
        kestrelmist(
            "one-place", self.place / "run.nii.gz", "--axis", "time", "--number", 3, "--out", self.place / "v.nii"
        )
        np.testing.assert_array_equal(open_image(self.place / "v.nii").data, data[..., 2, 1])


class ValuesTest(unittest.TestCase):
    def setUp(self):
        self.values = RNG.normal(50, 10, (12, 12, 12)).astype(np.float32)
        self.values[0, 0, 0] = np.nan
        self.image = image(self.values)
        self.mask = LabelMap(self.image.space, table=LabelTable().with_new("Mask")[0])
        self.mask.data[2:8, 2:8, 2:8] = 1
        self.mask.recount()

    def test_clip_standardise_invert_logarithm(self):
        made = clip(self.image, 40.0, 60.0).data
        np.testing.assert_array_equal(made, np.clip(self.values, 40, 60))
        whole = clip(image(np.arange(27, dtype=np.int16).reshape(3, 3, 3)), high=9)
        self.assertEqual(whole.data.dtype, np.int16)
        inside = self.values[2:8, 2:8, 2:8]
        made = standardise(self.image, self.mask).data
        np.testing.assert_allclose(
            made[3, 3, 3], (self.values[3, 3, 3] - inside.mean()) / inside.std(ddof=1), rtol=1e-4
        )
        turned = turn_values(self.image).data
        self.assertAlmostEqual(float(np.nanmax(turned)), float(np.nanmax(self.values)), places=3)
        there = np.isfinite(self.values)
        ends = self.values[there].min() + self.values[there].max()
        np.testing.assert_allclose((turned + self.values)[there], ends, rtol=1e-5)
        axes = (Axis("time", 2),)
        gap = image(np.stack([np.full((3, 3, 3), np.nan), np.arange(-27.0, 0).reshape(3, 3, 3)], -1), axes=axes)
        np.testing.assert_allclose(turn_values(gap).frame((1,)).data[0, 0, 0], -1.0)  # an empty volume is no zero
        with self.assertRaisesRegex(Trouble, "holds no values"):
            turn_values(image(np.full((3, 3, 3), np.nan)))
        logs = turn_values(image(self.values - 50), "logarithm").data
        self.assertTrue(np.isnan(logs[self.values <= 50]).all())
        for do, said in (
            (lambda: clip(self.image), "where to clip"),
            (lambda: clip(self.image, 5, 1), "is none"),
            (lambda: turn_values(image(-np.ones((3, 3, 3))), "logarithm"), "no value above 0"),
            (lambda: standardise(image(np.ones((3, 3, 3)))), "do not differ"),
            (lambda: standardise(image(np.ones((3, 3, 3))), self.mask), "another grid"),
        ):
            with self.assertRaisesRegex(Trouble, said):
                do()

    def test_matched_to_another(self):
        other = image(RNG.gamma(3, 100, (10, 10, 10)).astype(np.float32))
        made = match_values(self.image, other).data
        wanted = np.percentile(other.data, (1, 99))
        np.testing.assert_allclose(np.nanpercentile(made, (1, 99)), wanted, rtol=1e-4)
        curve = match_values(self.image, other, "histogram").data
        for share in (5, 25, 50, 75, 95):
            self.assertAlmostEqual(np.nanpercentile(curve, share) / np.percentile(other.data, share), 1.0, delta=0.03)
        order = np.argsort(self.values[1:].ravel())
        self.assertTrue((np.diff(curve[1:].ravel()[order]) >= -1e-3).all())
        self.assertTrue(np.isnan(curve[0, 0, 0]))

    def test_another_number_type_says_what_is_lost(self):
        made, lost = number_type(image(np.array([[[-5.4, 3.6, 70_000.0, np.nan]]])), "int16")
        np.testing.assert_array_equal(made.data, [[[-5, 4, 32767, 0]]])
        self.assertEqual(made.data.dtype, np.int16)
        self.assertEqual((lost.column("beyond")[0], lost.column("without value")[0]), (1, 1))
        self.assertAlmostEqual(lost.column("largest change")[0], 0.4, places=5)
        with self.assertRaisesRegex(Trouble, "would become 0"):
            number_type(image(RNG.random((4, 4, 4)) * 0.4), "uint8")


class AlongTest(unittest.TestCase):
    def test_through_time_against_numpy(self):
        data = RNG.normal(100, 5, (4, 5, 6, 20)).astype(np.float32)
        data[1, 1, 1, 3] = np.nan
        run = image(data, axes=(Axis.even("time", 20, 2.0, "s"),))
        for how, wanted in (
            ("mean", np.nanmean(data, -1)),
            ("sd", np.nanstd(data, -1, ddof=1)),
            ("maximum", np.nanmax(data, -1)),
            ("minimum", np.nanmin(data, -1)),
            ("sum", np.nansum(data, -1)),
            ("median", np.nanmedian(data, -1)),
            ("snr", np.nanmean(data, -1) / np.nanstd(data, -1, ddof=1)),
        ):
            np.testing.assert_allclose(through_time(run, how).data, wanted, rtol=1e-4)
        with self.assertRaisesRegex(Trouble, "one volume, not a series"):
            through_time(image(np.ones((3, 3, 3))))

    def test_projected_along_an_axis_and_in_a_slab(self):
        values = RNG.normal(size=(6, 7, 20)).astype(np.float32)
        one = image(values, 0.5)
        made = project(one, "k", "maximum")
        np.testing.assert_allclose(made.data[:, :, 0], values.max(2))
        np.testing.assert_allclose(made.space.corners(), one.space.corners())
        slab = project(one, "k", "mean", slab=1.5)  # three voxels
        np.testing.assert_allclose(slab.data[:, :, 5], values[:, :, 4:7].mean(2), rtol=1e-4, atol=1e-6)
        self.assertTrue(slab.space.same_grid(one.space))
        with self.assertRaisesRegex(Trouble, "one voxel thick"):
            project(image(np.ones((3, 3, 1))), "k")


class NoiseTest(unittest.TestCase):
    def setUp(self):
        k, j, i = np.indices((48, 48, 48))
        ball = (i - 24) ** 2 + (j - 22) ** 2 + (k - 24) ** 2 < 18**2
        self.true = (100.0 * ball + 60 * ((i - 20) ** 2 + (j - 24) ** 2 < 36) + 20).astype(np.float32)
        self.noisy = self.true + RNG.normal(0, 9, self.true.shape).astype(np.float32)

    def error(self, made: np.ndarray) -> float:
        return float(np.sqrt(((made - self.true) ** 2).mean()))

    def test_the_noise_is_found(self):
        self.assertAlmostEqual(noise_level(self.noisy), 9.0, delta=0.4)
        self.assertEqual(noise_level(np.ones((1, 1, 1), np.float32)), 0.0)

    def test_less_noise_and_what_was_taken_looks_like_noise(self):
        for how, most in (("non-local means", 0.33), ("total variation", 0.5), ("median", 0.6), ("diffusion", 0.75)):
            clean, taken = reduce_noise(image(self.noisy), how)
            self.assertLess(self.error(clean.data), most * 9, how)
            np.testing.assert_allclose(clean.data + taken.data, self.noisy, atol=1e-3)
        clean, taken = reduce_noise(image(self.noisy))
        self.assertAlmostEqual(float(taken.data.std()), 9, delta=1.2)
        inner = taken.data[2:-2, 2:-2, 2:-2]
        near = (inner[1:] * inner[:-1]).mean() / inner.var()
        self.assertLess(abs(near), 0.12)  # independent from voxel to voxel

    def test_the_bias_of_magnitudes_is_taken_away(self):
        weak = np.full((32, 32, 32), 20.0, np.float32)
        magnitude = np.hypot(weak + RNG.normal(0, 10, weak.shape), RNG.normal(0, 10, weak.shape)).astype(np.float32)
        self.assertGreater(magnitude.mean(), 22)
        clean, _ = reduce_noise(image(magnitude), noise=10.0, kind="rician")
        self.assertAlmostEqual(float(clean.data[4:-4, 4:-4, 4:-4].mean()), 20.0, delta=1.0)

    def test_odd_images(self):
        values = self.noisy.copy()
        values[5, 5, 5] = np.nan
        clean, _ = reduce_noise(image(values))
        self.assertTrue(np.isnan(clean.data[5, 5, 5]))
        self.assertEqual(int(np.isnan(clean.data).sum()), 1)
        flat, _ = reduce_noise(image(self.noisy[:, :, :1]))
        self.assertLess(float(np.abs(flat.data - self.true[:, :, :1]).mean()), 6)
        with self.assertRaisesRegex(Trouble, "No noise was found"):
            reduce_noise(image(np.ones((5, 5, 5))))


class EvennessTest(unittest.TestCase):
    def test_the_field_of_a_volume_is_found(self):
        k, j, i = np.indices((48, 56, 52)).astype(np.float32)
        ball = (i - 26) ** 2 + (j - 28) ** 2 + (k - 24) ** 2 < 20**2
        cells = ndimage.gaussian_filter(RNG.standard_normal(ball.shape), 2.5)
        true = np.where(ball, np.where(cells > 0, 900.0, 650.0), 10.0).astype(np.float32)
        field = np.exp(0.35 * (i - 26) / 26 - 0.25 * ((j - 28) / 28) ** 2).astype(np.float32)
        seen = true * field + RNG.normal(0, 10, true.shape)
        given = image(np.clip(seen, 0, None).T.astype(np.float32))
        mask = LabelMap(given.space, table=LabelTable().with_new("Head")[0])
        mask.data[ball.T] = 1
        mask.recount()
        for used in (mask, None):
            even, found = even_brightness(given, used)
            before = field[ball] / field[ball].mean()
            after = (field.T / found.data)[ball.T]
            after = after / after.mean()
            self.assertLess(after.std(), before.std() / 3)
            self.assertAlmostEqual(float(even.data[ball.T].mean()), float(given.data[ball.T].mean()), delta=2)
        empty = LabelMap(given.space, table=mask.table)
        with self.assertRaisesRegex(Trouble, "nothing to look at"):
            even_brightness(given, empty)
        with self.assertRaisesRegex(Trouble, "no value above 0"):
            even_brightness(image(-np.ones((6, 6, 6), np.float32)))

    def test_the_background_of_a_section(self):
        y, x = np.mgrid[-1:1:160j, -1:1:200j]
        field = 1 - 0.3 * x**2 - 0.2 * y + 0.1 * x * y
        cells = (ndimage.gaussian_filter(RNG.standard_normal(x.shape), 3) > 0.13).astype(float)
        seen = (200 * field * (1 - 0.5 * cells) + RNG.normal(0, 2, x.shape)).astype(np.float32)
        section = Image(np.asfortranarray(seen.T[:, :, None]), picture_space(200, 160, (0.001, 0.001)), "Section")
        for given in ({}, {"how": "median"}, {"blank": section.like((50 * field).astype(np.float32).T[:, :, None])}):
            even, found = even_background(section, **given)
            rest = (field.T / found.data[:, :, 0])[10:-10, 10:-10]
            self.assertLess(rest.std() / rest.mean(), field.std() / field.mean() / 3, given)
            self.assertTrue(even.space.same_grid(section.space))
        with self.assertRaisesRegex(Trouble, "0 or below"):
            even_background(section.like(section.data - 500))
