"""Tissues split: shares that are known, in a body made by a formula. Whole heads stand in `truth`."""

import unittest

import numpy as np
from scipy import ndimage

from kestrelmist.core.errors import Cancelled, Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap, LabelTable
from kestrelmist.core.progress import Progress
from kestrelmist.formats.label_files import write_label_map
from kestrelmist.formats.opening import open_image
from kestrelmist.formats.saving import save_image
from kestrelmist.prepare.tissue.tissue_model import Box, Mixture, kinds_of, shares_of
from kestrelmist.prepare.tissue.tissues import cleared, split_tissues
from kestrelmist.study.study import Study
from tests.command import kestrelmist
from tests.making import PlaceCase, straight_space

SHAPE = (64, 60, 56)


class Onion:
    """A ball of fluid in the middle, then white, then grey, then fluid; with known shares in every voxel."""

    def __init__(self, noise=0.03, uneven=0.25, step=1.0):
        fine = np.indices([2 * n for n in SHAPE]).reshape(3, -1).T / 2 - 0.25 - (np.array(SHAPE) - 1) / 2
        away = np.linalg.norm(fine, axis=1).reshape([2 * n for n in SHAPE])
        kinds = [(away < 6) | ((away >= 24) & (away < 26)), (away >= 16) & (away < 24), (away >= 6) & (away < 16)]
        halves = [k.reshape(SHAPE[0], 2, SHAPE[1], 2, SHAPE[2], 2).mean((1, 3, 5)) for k in kinds]
        self.shares = np.stack(halves)  # fluid, grey, white
        self.space = straight_space(SHAPE, step)
        self.inside = self.shares.sum(0) > 0.5
        x = np.linspace(-1, 1, SHAPE[0])[:, None, None]
        y = np.linspace(-1, 1, SHAPE[1])[None, :, None]
        self.field = 1 + uneven * (x - 0.6 * y * y)
        self.rng, self.noise = np.random.default_rng(7), noise

    def image(self, fluid, grey, white, scale=1000.0, name="Onion") -> Image:
        clean = np.tensordot([fluid, grey, white], self.shares, 1)
        values = scale * (clean * self.field + self.rng.normal(0, self.noise, SHAPE))
        return Image(np.asfortranarray(values, np.float32), self.space, name, "T-1")

    def mask(self, inside=None) -> LabelMap:
        labels = LabelMap(self.space, table=LabelTable().with_new("Brain")[0])
        labels.data[self.inside if inside is None else inside] = 1
        labels.recount()
        return labels


class OnionTest(PlaceCase):
    def check(self, onion: Onion, made, least: float = 0.95) -> None:
        found = [made.fluid.data, made.grey.data, made.white.data]
        np.testing.assert_allclose(sum(found)[onion.inside], 1, atol=1e-5)
        for n, one in enumerate(found):
            self.assertGreater(np.corrcoef(one[onion.inside], onion.shares[n][onion.inside])[0, 1], least)
            self.assertAlmostEqual(float(one.sum()) / float(onion.shares[n][onion.inside].sum()), 1.0, delta=0.1)

    def test_shares_and_the_field_in_t1_and_t2(self):
        onion = Onion()
        made = split_tissues(onion.image(0.3, 0.7, 1.0), onion.mask())
        self.check(onion, made)
        ratio = (made.field.data / onion.field)[onion.inside]
        self.assertLess(ratio.std() / ratio.mean(), 0.05)
        np.testing.assert_array_equal(made.white.data[~onion.inside], 0)
        np.testing.assert_array_equal(made.field.data[~onion.inside], 1)
        t2 = split_tissues(onion.image(1.4, 0.8, 0.5), onion.mask(), brightest="fluid")
        self.check(onion, t2)
        volumes = {row[0]: row[1] for row in made.volumes.rows}
        self.assertAlmostEqual(volumes["white"], float(made.white.data.sum()), delta=1)

    def test_any_scale_of_values_and_voxels(self):
        onion = Onion(step=1e3)
        self.check(onion, split_tissues(onion.image(0.3, 0.7, 1.0, 1e-5), onion.mask()))

    def test_two_contrasts_tell_more_than_one(self):
        onion = Onion(noise=0.14, uneven=0.1)
        one, other = onion.image(0.3, 0.7, 1.0), onion.image(1.4, 0.8, 0.5)
        true = onion.shares.argmax(0)[onion.inside]
        right = []
        for others in (None, [other]):
            made = split_tissues(one, onion.mask(), others)
            found = np.stack([made.fluid.data, made.grey.data, made.white.data]).argmax(0)
            right.append(float((found[onion.inside] == true).mean()))
        self.assertGreater(right[1], right[0])
        self.assertGreater(right[1], 0.93)

    def test_missing_values_and_a_label_that_is_no_brain(self):
        onion = Onion()
        image = onion.image(0.3, 0.7, 1.0)
        values = image.data.copy()
        values[32, 30, 10:13], values[20, 30, 28] = np.nan, np.inf
        labels = onion.mask()
        table, _ = labels.table.with_new("Muscle")
        labels.table = table
        labels.data[:6] = 2
        labels.recount()
        made = split_tissues(image.like(values), labels)
        self.assertTrue(np.isfinite(made.grey.data).all())
        self.assertEqual(float(made.grey.data[:6].sum()), 0.0)
        self.assertEqual(float(made.grey.data[32, 30, 11] + made.white.data[32, 30, 11]), 0.0)

    def test_what_cannot_be_done_is_said(self):
        onion = Onion()
        image = onion.image(0.3, 0.7, 1.0)
        few = np.zeros(SHAPE, bool)
        few[30:33, 30:33, 30:33] = True
        other = Image(np.ones((9, 9, 9), np.float32, order="F"), straight_space((9, 9, 9)), "Small")
        for what, said in (
            (lambda: split_tissues(image, LabelMap(onion.space)), "mask is empty"),
            (lambda: split_tissues(image, onion.mask(few)), "too few"),
            (lambda: split_tissues(image, onion.mask(), [other]), "another grid"),
            (lambda: split_tissues(image, LabelMap(other.space)), "another grid"),
            (lambda: split_tissues(image.like(image.data * 0 + 5), onion.mask()), "no brightness"),
            (lambda: split_tissues(image.like(-image.data), onion.mask()), "no brightness"),
            (lambda: split_tissues(image.like(image.data * np.nan), onion.mask()), "mask has 0 voxels"),
        ):
            with self.assertRaisesRegex(Trouble, said):
                what()
        stopped = Progress(lambda *_: stopped.cancel())
        with self.assertRaises(Cancelled):
            split_tissues(image, onion.mask(), progress=stopped)

    def test_into_a_folder_and_into_a_study(self):
        onion = Onion()
        place = self.place / "scans"
        place.mkdir()
        save_image(place / "onion.nii.gz", onion.image(0.3, 0.7, 1.0))
        write_label_map(self.place / "mask.nii.gz", onion.mask())
        out = self.place / "tissues"
        kestrelmist("split-tissues", place / "onion.nii.gz", "--mask", self.place / "mask.nii.gz", "--out", out)
        self.assertEqual(
            sorted(p.name for p in out.iterdir()),
            ["field.nii.gz", "fluid.nii.gz", "grey.nii.gz", "volumes.csv", "white.nii.gz"],
        )
        self.assertGreater(
            np.corrcoef(open_image(out / "white.nii.gz").data.ravel(), onion.shares[2].ravel())[0, 1], 0.95
        )
        again = kestrelmist(
            "split-tissues", place / "onion.nii.gz", "--mask", self.place / "mask.nii.gz", "--out", out, code=1
        )
        self.assertIn("something of this name already", again.stderr)
        self.assertEqual(sorted(p.name for p in self.place.iterdir()), ["mask.nii.gz", "mask.tsv", "scans", "tissues"])
        with Study(self.place / "s", create=True) as study:
            study.run("gather", folder=place, subject="T-1")
            (record,) = study.records()
            study.run("take-out-brain", image=record.id, start=(0.0, 0.0, 0.0))
            study.run("split-tissues", image=record.id)
            self.assertEqual(
                [r.name for r in study.records()][1:], [f"onion, {t}" for t in ("grey", "white", "fluid", "field")]
            )


class ModelTest(unittest.TestCase):
    def test_likelihoods_by_formula(self):
        """Three tissues far apart: a voxel half-way is shared by halves, one on a mean is pure."""
        mixture = Mixture(np.array([[1.0], [2.0], [3.0]]), np.full((3, 1), 0.05), np.full(5, 0.2), np.ones((5, 1)))
        y = np.array([[1.0], [1.5], [2.0], [2.75], [3.0]], np.float32)
        shares = shares_of(y, mixture)
        np.testing.assert_allclose(shares, [[1, 0, 0], [0.5, 0.5, 0], [0, 1, 0], [0, 0.25, 0.75], [0, 0, 1]], atol=0.03)
        np.testing.assert_allclose(kinds_of(y, mixture).sum(1), 1, atol=1e-6)
        far = kinds_of(np.array([[50.0]], np.float32), mixture)
        np.testing.assert_array_equal(far, [[0, 0, 0, 0, 1]])

    def test_small_shares_are_none_and_the_rest_adds_up(self):
        np.testing.assert_allclose(cleared(np.array([[0.1, 0.9, 0.0], [0.2, 0.3, 0.5]], np.float32)),
                                   [[0, 1, 0], [0.2, 0.3, 0.5]], atol=1e-6)  # fmt: skip

    def test_a_smooth_field_is_told_by_blocks_as_by_voxels(self):
        inside = np.ones((40, 40, 40), bool)
        wave = 1 + 0.2 * np.sin(np.indices(inside.shape)[2] / 10)
        found = Box(inside, (1, 1, 1), 12.0).smoothed_ratio(wave.ravel(), np.ones(inside.size))
        wanted = ndimage.gaussian_filter(wave, 12 / 2.3548, mode="nearest")
        middle = np.zeros(inside.shape, bool)
        middle[12:28, 12:28, 12:28] = True
        self.assertLess(np.abs(found.reshape(inside.shape) - wanted)[middle].max(), 0.02)


if __name__ == "__main__":
    unittest.main()
