"""Warps: found again where they are known, there and back, through files and studies."""

import json
import unittest

import numpy as np
from scipy import ndimage

from kestrelmist.align.levels import Sides
from kestrelmist.align.similar import similarity_named
from kestrelmist.align.warp_fit import bent, grid_of, pixels_of
from kestrelmist.core.errors import Cancelled, Trouble
from kestrelmist.core.flows import composed, exponential, folding, smoothed
from kestrelmist.core.image import Image
from kestrelmist.core.mapping_kinds import mapping_from
from kestrelmist.core.progress import Progress
from kestrelmist.core.space import Space
from kestrelmist.core.through import resampled_through
from kestrelmist.core.warp import Warp
from kestrelmist.formats.format import format_of
from kestrelmist.formats.saving import save_image, save_thing
from tests.command import kestrelmist
from tests.making import PlaceCase
from tests.test_align import INSIDE, ONE, OTHER, SPACE, TISSUE

GRID = grid_of(SPACE, 1.0)


def made_up(size: float = 2.5, seed: int = 4) -> Warp:
    """A smooth warp whose mean shift within the body is of a size, mm."""
    random = np.random.default_rng(seed)
    velocity = smoothed(random.normal(size=(*GRID.shape[::-1], 3)).astype(np.float32), 8.0)
    for axis, n in enumerate(velocity.shape[:3]):  # nothing moves at the edge
        fade = np.sin(np.pi * (np.arange(n) + 0.5) / n).astype(np.float32)
        velocity *= fade.reshape([-1 if a == axis else 1 for a in range(4)])
    for _ in range(3):
        shift = np.linalg.norm(Warp(velocity, GRID).to(INSIDE) - INSIDE, axis=1).mean()
        velocity = velocity * np.float32(size / shift)
    return Warp(velocity, GRID)


def pair(warp: Warp, values: np.ndarray = ONE, noise: float = 3.0) -> tuple[np.ndarray, np.ndarray]:
    """The body as the warp has it, and the body itself with other values for its tissues, [k, j, i]."""
    random = np.random.default_rng(6)
    soft = [ndimage.gaussian_filter(v[TISSUE], 0.8) for v in (ONE, values)]
    fixed = resampled_through(soft[0], SPACE, SPACE, warp, "linear", 0.0)
    return tuple(v + random.normal(0, noise, v.shape).astype(np.float32) for v in (fixed, soft[1]))


def found_in(fixed, moving, measure="correlation", affine=None, **more):
    return bent(
        Sides(fixed, SPACE, name="F"), Sides(moving, SPACE, name="M"), np.eye(4) if affine is None else affine,
        similarity_named(measure), **more,
    )  # fmt: skip


def apart(found: Warp, truth: Warp) -> float:
    return float(np.linalg.norm(found.to(INSIDE) - truth.to(INSIDE), axis=1).mean())


class FlowTest(unittest.TestCase):
    def test_an_even_velocity_shifts_and_a_turning_one_turns(self):
        even = np.zeros((9, 10, 11, 3), np.float32) + np.float32((1.5, -0.5, 2.0))
        np.testing.assert_allclose(exponential(even), even, atol=1e-5)
        j, i = np.indices((41, 41)).astype(np.float32) - 20
        turning = np.stack((-j, i, 0 * i), -1)[None] * np.float32(0.3)
        shift = exponential(np.repeat(turning, 2, 0), 0.05)[0]
        inner = np.hypot(i, j) < 12
        wanted = np.stack((np.cos(0.3) * i - np.sin(0.3) * j - i, np.sin(0.3) * i + np.cos(0.3) * j - j), -1)
        np.testing.assert_allclose(shift[inner][:, :2], wanted[inner], atol=0.03)

    def test_composed_smoothed_and_folding_against_numpy(self):
        random = np.random.default_rng(1)
        field = smoothed(random.normal(size=(14, 15, 16, 3)).astype(np.float32), 2.0) * 20
        for n in range(3):
            wanted = ndimage.gaussian_filter(field[..., n], 1.3, mode="nearest", truncate=4 / 1.3)
            np.testing.assert_allclose(smoothed(field, 1.3)[..., n], wanted, atol=2e-3)
        at = np.moveaxis(np.indices(field.shape[:3]).astype(float), 0, -1)[..., ::-1]
        there = at + field
        spots = np.clip(there, 0, (15, 14, 13))[..., ::-1].transpose(3, 0, 1, 2)
        wanted = field + np.stack([ndimage.map_coordinates(field[..., n], spots, order=1) for n in range(3)], -1)
        np.testing.assert_allclose(composed(field, field, np.empty_like(field)), wanted, atol=1e-4)
        slopes = np.stack([np.gradient(there[..., n]) for n in range(3)])  # [of, along kji]
        jacobian = np.linalg.det(slopes[:, ::-1].transpose(2, 3, 4, 0, 1))
        np.testing.assert_allclose(folding(field), jacobian, atol=1e-3)

    def test_a_few_places_flow_as_many_do(self):
        warp = made_up(4.0)
        some = INSIDE[:: max(1, len(INSIDE) // 50)]
        alone = warp.to(some), warp.back(some)
        self.assertNotIn("_flow", warp.__dict__)  # nobody has waited for it
        again = Warp(warp.velocity, GRID).prepared()
        self.assertIn("_flow", again.__dict__)
        for one, other in zip(alone, (again.to(some), again.inverse().prepared().to(some))):
            self.assertLess(np.linalg.norm(one - other, axis=1).max(), 0.1)  # of a voxel of 1 mm

    def test_there_and_back(self):
        warp = made_up(4.0)
        self.assertGreater(folding(exponential(warp.velocity)).min(), 0.1)
        middle = INSIDE[np.abs(warp.to(INSIDE) - INSIDE).max(1) < 20]
        for one in (warp, warp.inverse()):
            self.assertLess(np.linalg.norm(one.back(one.to(middle)) - middle, axis=1).max(), 0.1)
        np.testing.assert_allclose(warp.inverse().to(middle), warp.back(middle), atol=1e-9)
        turned = Warp(warp.velocity, GRID, np.eye(4), np.diag((1.1, 0.9, 1, 1.0)))
        np.testing.assert_allclose(turned.to(middle), warp.to(middle) * (1.1, 0.9, 1), atol=1e-9)
        np.testing.assert_allclose(turned.inverse().back(middle), turned.to(middle), atol=1e-9)


class FitTest(unittest.TestCase):
    def test_a_known_warp_is_found_again(self):
        truth = made_up()
        self.assertAlmostEqual(np.linalg.norm(truth.to(INSIDE) - INSIDE, axis=1).mean(), 2.5, delta=0.05)
        for measure, limit in (("squares", 0.75), ("correlation", 0.75), ("local-correlation", 0.8)):
            found = found_in(*pair(truth), measure)
            self.assertLess(apart(found.warp, truth), limit, measure)
            self.assertGreater(found.smallest, 0.05)
            self.assertLess(found.left[-1][-1], found.left[-1][0] + 1e-9)

    def test_another_contrast(self):
        truth = made_up()
        found = found_in(*pair(truth, OTHER), "normalised-information")
        self.assertLess(apart(found.warp, truth), 0.9)

    def test_images_that_fit_stay_where_they_are(self):
        still = Warp(np.zeros((*GRID.shape[::-1], 3), np.float32), GRID)
        found = found_in(*pair(still))
        self.assertLess(apart(found.warp, still), 0.05)

    def test_the_affine_is_in_it(self):
        truth = made_up(1.5)
        affine = np.eye(4)
        affine[:3, 3] = 6, -4, 3
        fixed, moving = pair(truth)
        found = bent(Sides(fixed, SPACE), Sides(moving, SPACE.moved(affine)), affine, similarity_named("correlation"))
        wanted = truth.to(INSIDE) + affine[:3, 3]
        self.assertLess(np.linalg.norm(found.warp.to(INSIDE) - wanted, axis=1).mean(), 0.45)

    def test_warp_spacing_and_stiffness_say_how_fine_it_is(self):
        fixed, moving = pair(made_up())
        rough = {}
        for name, more in (("fine", {}), ("coarse", {"spacing": 20.0}), ("stiff", {"stiffness": 4.0})):
            shift = exponential(found_in(fixed, moving, **more).warp.velocity)
            rough[name] = float(np.abs(np.diff(shift, 2, axis=2)).mean())
        self.assertGreater(rough["fine"], 1.3 * rough["coarse"])
        self.assertGreater(rough["fine"], 1.1 * rough["stiff"])

    def test_pictures_thick_slices_and_cancel(self):
        flat = Space((52, 60, 1), np.diag((1.1, 1.0, 1.0, 1.0)))
        values = ndimage.gaussian_filter(ONE[TISSUE[26]], 0.8)[None]
        wave = np.zeros((1, *values.shape[1:], 3), np.float32)
        wave[0, ..., 0] = 2.5 * np.sin(np.linspace(0, np.pi, 60))[:, None]
        grid = grid_of(flat, 1.0)
        self.assertEqual(grid.shape[2], 1)
        truth = Warp(np.zeros((*grid.shape[::-1], 3), np.float32) + np.float32((1.5, -1.0, 0)), grid)
        moved = resampled_through(values, flat, flat, truth, "linear", 0.0)
        found = bent(Sides(moved, flat), Sides(values, flat), np.eye(4), similarity_named("correlation")).warp
        at = flat.to_world(np.argwhere(TISSUE[26] > 1)[:, ::-1] @ np.eye(2, 3) + (0, 0, 0))
        self.assertLess(np.linalg.norm(found.to(at) - truth.to(at), axis=1).mean(), 0.35)
        self.assertEqual(float(np.abs(found.velocity[..., 2]).max()), 0.0)
        thick = Space((52, 60, 14), SPACE.affine @ np.diag((1, 1, 4, 1.0)))
        self.assertGreaterEqual(len(pixels_of(thick, SPACE)), 2)
        stopped = Progress()
        stopped.cancel()
        with self.assertRaises(Cancelled):
            found_in(*pair(made_up()), progress=stopped)

    def test_wrong_velocities(self):
        with self.assertRaisesRegex(Trouble, "does not fit its grid"):
            Warp(np.zeros((2, 2, 2, 3), np.float32), GRID)
        broken = np.full((*GRID.shape[::-1], 3), np.nan, np.float32)
        with self.assertRaisesRegex(Trouble, "no number"):
            Warp(broken, GRID)


class FileTest(PlaceCase):
    def test_in_files_and_in_words(self):
        import SimpleITK as sitk

        warp = made_up()
        warp = Warp(warp.velocity, GRID, np.eye(4), np.diag((1.05, 1, 0.97, 1.0)), name="W")
        wanted = warp.to(INSIDE)
        for ending in (".nii.gz", ".h5"):
            path = self.place / f"w{ending}"
            save_thing(path, warp)
            read = format_of(path, "transform").open(path)
            self.assertLess(np.linalg.norm(read.to(INSIDE) - wanted, axis=1).max(), 0.1)
        theirs = sitk.ReadTransform(str(self.place / "w.h5"))
        turn = (-1, -1, 1)
        found = np.array([theirs.TransformPoint(p) for p in (INSIDE * turn)[::7].tolist()]) * turn
        self.assertLess(np.linalg.norm(found - wanted[::7], axis=1).max(), 0.1)
        facts, arrays = warp.facts()
        again = mapping_from(json.loads(json.dumps(facts)), arrays)
        np.testing.assert_allclose(again.to(INSIDE), wanted, atol=1e-9)
        self.assertEqual(again.content_hash(), warp.content_hash())
        with self.assertRaisesRegex(Trouble, "begins with an affine transform that shears"):
            sheared = np.eye(4)
            sheared[0, 1] = 0.2
            Warp(warp.velocity, GRID, sheared).as_field()

    def test_on_the_command_line_and_in_a_study(self):
        truth = made_up()
        fixed, moving = pair(truth)
        for name, values in (("fixed", fixed), ("moving", moving)):
            save_image(self.place / f"{name}.nii.gz", Image(np.asfortranarray(values.T), SPACE, name))
        done = kestrelmist(
            "align", self.place / "moving.nii.gz", "--onto", self.place / "fixed.nii.gz", "--freedom", "warp",
            *("--similarity", "correlation", "--warp-spacing", "4", "--out", self.place / "t.nii.gz", "--json"),
        )  # fmt: skip
        row = json.loads(done.stdout)["rows"][0]
        self.assertEqual(row["freedom"], "12 and warp")
        self.assertGreater(row["after"], row["before"])
        self.assertGreater(row["least Jacobian"], 0.0)
        self.assertAlmostEqual(row["warp, mean"], 1.8, delta=0.8)  # of the whole grid, less what is affine
        read = format_of(self.place / "t.nii.gz", "transform").open(self.place / "t.nii.gz")
        self.assertLess(np.linalg.norm(read.to(INSIDE) - truth.to(INSIDE), axis=1).mean(), 0.8)
        kestrelmist("invert-transform", self.place / "t.nii.gz", "--out", self.place / "back.nii.gz")
        back = format_of(self.place / "back.nii.gz", "transform").open(self.place / "back.nii.gz")
        self.assertLess(np.linalg.norm(back.to(read.to(INSIDE)) - INSIDE, axis=1).mean(), 0.05)
        kestrelmist(
            "join-transforms", self.place / "t.nii.gz", "--then", self.place / "back.nii.gz",
            *("--out", self.place / "none.nii.gz"),
        )  # fmt: skip
        none = format_of(self.place / "none.nii.gz", "transform").open(self.place / "none.nii.gz")
        self.assertLess(np.linalg.norm(none.to(INSIDE) - INSIDE, axis=1).mean(), 0.1)
        kestrelmist(
            "apply-transform", self.place / "moving.nii.gz", "--transform", self.place / "t.nii.gz",
            *("--onto", self.place / "fixed.nii.gz", "--how", "linear", "--out", self.place / "r.nii.gz"),
        )  # fmt: skip
        from kestrelmist.formats.opening import open_image

        brought = open_image(self.place / "r.nii.gz").kji
        there = (TISSUE > 0) & np.isfinite(brought)
        self.assertGreater(np.corrcoef(brought[there], fixed[there])[0, 1], 0.97)
        self.assertLess(np.corrcoef(moving[there], fixed[there])[0, 1], 0.93)
        study = self.place / "study"
        kestrelmist("gather", self.place / "moving.nii.gz", "--study", study)
        kestrelmist("gather", self.place / "fixed.nii.gz", "--study", study)
        kestrelmist("align", "moving", "--onto", "fixed", "--freedom", "warp", "--study", study)
        told = json.loads(kestrelmist("logbook", "--study", study, "--json").stdout)["rows"][-1]
        self.assertIn("Align two images", str(told))
        from kestrelmist.study.study import Study

        with Study(study) as opened:
            (record,) = opened.items.of_kind("transform")
            kept = opened.thing(record.id)
            self.assertEqual((record.name, kept.words), ("moving to fixed, warped", "warp"))
            self.assertLess(np.linalg.norm(kept.to(INSIDE) - truth.to(INSIDE), axis=1).mean(), 0.9)
