"""Surfaces of labels against closed forms, block by block, simplified, stepped, and turned back into labels."""

from __future__ import annotations

import unittest

import numpy as np
from scipy import ndimage

from kestrelmist.core.errors import Trouble
from kestrelmist.core.labels import Label, LabelMap, LabelTable
from kestrelmist.core.space import Space
from kestrelmist.core.surface.blocks import SIDE, block_surface, changed_blocks, states_of
from kestrelmist.core.surface.depth import depth_of
from kestrelmist.core.surface.inside import voxels_within
from kestrelmist.core.surface.march import cases, marched
from kestrelmist.core.surface.of_label import surfaces_of
from kestrelmist.core.surface.simplify import fewer
from kestrelmist.core.surface.smoothing import across, normals
from kestrelmist.core.surface.surface import Surface, Surfaces


def mapped(space: Space, numbers: np.ndarray, *names: str) -> LabelMap:
    rows = [Label(n, name, "#E0A24B") for n, name in enumerate(names or ("Body",), 1)]
    return LabelMap(space, numbers.astype(np.uint16), LabelTable(rows))


def ellipsoid(spacing, radii, shift=(0.0, 0.0, 0.0), affine=None) -> tuple[LabelMap, np.ndarray]:
    """An ellipsoid of radii in mm on a grid that holds it, and its middle in the world."""
    shape = tuple(int(2 * r / s + 8) for r, s in zip(radii, spacing))
    grid = np.diag([*spacing, 1.0]) if affine is None else affine
    space = Space(shape, grid)
    middle = (np.array(shape) - 1) / 2 + np.array(shift)
    away = (np.moveaxis(np.indices(shape), 0, -1) - middle) * np.array(spacing) / np.array(radii)
    return mapped(space, (away**2).sum(-1) < 1), space.to_world(middle)


def steepness(one: Surface, middle, radii) -> float:
    """Mean angle, in degrees, between a surface's triangles and the ellipsoid's own slope there."""
    sides = across(one.corners, one.triangles)
    at = one.corners[one.triangles].mean(1)
    true = (at - middle) / np.array(radii) ** 2
    cos = (sides * true).sum(1) / (np.linalg.norm(sides, axis=1) * np.linalg.norm(true, axis=1))
    return float(np.average(np.degrees(np.arccos(np.clip(cos, -1, 1))), weights=np.linalg.norm(sides, axis=1)))


class MarchTest(unittest.TestCase):
    def test_every_case_is_closed_with_its_neighbours(self):
        self.assertEqual((cases() >= 0).sum(1).max(), 15)
        field = np.pad(np.random.default_rng(0).normal(size=(12, 13, 14)), 1, constant_values=-1).astype(np.float32)
        corners, triangles, _, _ = marched(field)
        ends = triangles[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2)
        directed = {tuple(pair) for pair in ends.tolist()}
        self.assertEqual(len(directed), len(ends))  # no side is met twice from the same hand
        self.assertEqual(directed, {(b, a) for a, b in directed})
        self.assertEqual(len(np.unique(triangles)), len(corners))

    def test_a_ball_of_values_is_found_where_it_is(self):
        k, j, i = np.indices((40, 41, 42))
        field = (14 - np.sqrt((i - 20.3) ** 2 + (j - 20.1) ** 2 + (k - 19.7) ** 2)).astype(np.float32)
        corners, triangles, _, _ = marched(field)
        away = np.linalg.norm(corners - (20.3, 20.1, 19.7), axis=1)
        np.testing.assert_allclose(away, 14, atol=0.05)
        one = Surface(corners, triangles)
        self.assertAlmostEqual(one.volume / (4 / 3 * np.pi * 14**3), 1, delta=0.005)
        self.assertAlmostEqual(one.area / (4 * np.pi * 14**2), 1, delta=0.003)
        outward = normals(corners, triangles) * (corners - np.array((20.3, 20.1, 19.7), np.float32)) / away[:, None]
        self.assertGreater(outward.sum(1).min(), 0.98)

    def test_parts_of_slices_meet(self):
        field = np.random.default_rng(1).normal(size=(20, 9, 8)).astype(np.float32)
        whole, _, _, _ = marched(field)
        upper, _, begins, _ = marched(field, 11)
        lower, _, _, ends = marched(field, 0, 11)
        self.assertEqual(begins, ends)
        np.testing.assert_array_equal(upper[:begins], lower[-ends:])
        np.testing.assert_array_equal(np.concatenate((lower, upper[begins:])), whole)


class DepthTest(unittest.TestCase):
    def test_distances_before_they_are_smoothed(self):
        """A blur of next to no width leaves the distances as another library finds them, up to three voxels."""
        mask = np.zeros((30, 31, 32), np.uint8)
        mask[6:20, 8:22, 5:25] = ndimage.gaussian_filter(np.random.default_rng(2).normal(size=(14, 14, 20)), 2) > 0
        found = depth_of(mask, (1.0, 1.0, 1.0), 0, 30, 0.05)
        true = ndimage.distance_transform_edt(mask) - ndimage.distance_transform_edt(1 - mask)
        near = np.abs(true) < 2.9
        np.testing.assert_allclose(found[near], true[near], atol=1e-4)
        np.testing.assert_array_equal(np.sign(found), np.where(mask, 1, -1))

    def test_parts_are_those_of_the_whole(self):
        mask = np.zeros((70, 24, 26), np.uint8)
        mask[3:66, 4:20, 4:20] = np.random.default_rng(3).random((63, 16, 16)) < 0.5
        whole = depth_of(mask, (1.0, 1.0, 1.0), 0, 70)
        np.testing.assert_array_equal(depth_of(mask, (1.0, 1.0, 1.0), 21, 44), whole[21:44])


class VolumeTest(unittest.TestCase):
    def test_volume_and_smoothness_of_ellipsoids(self):
        """From 5 to 50 voxels, even and thick: the volume of the voxels, no open side, and no stairs."""
        for spacing, radius, most in (
            ((1.0, 1.0, 1.0), 5, 7),
            ((1.0, 1.0, 1.0), 12, 4),
            ((0.5, 0.5, 0.5), 12, 2),
            ((1.0, 1.0, 5.0), 25, 7),
            ((5.0, 1.0, 1.0), 25, 8),
            ((1.0, 0.6, 1.0), 12, 4),
        ):
            radii = (radius, 1.2 * radius, 0.9 * radius)
            labels, middle = ellipsoid(spacing, radii, (0.3, -0.2, 0.4))
            one = surfaces_of(labels).parts[0]
            voxels = labels.counts[1] * labels.space.voxel_volume
            with self.subTest(spacing=spacing, radius=radius):
                self.assertAlmostEqual(one.volume / voxels, 1, delta=0.001)
                self.assertAlmostEqual(one.volume / (4 / 3 * np.pi * np.prod(radii)), 1, delta=0.03)
                self.assertEqual(one.open_edges, 0)
                self.assertLess(steepness(one, middle, radii), most)
                self.assertGreater(steepness(surfaces_of(labels, stepped=True).parts[0], middle, radii), 25)

    def test_fifty_voxels_within_one_percent_of_the_closed_form(self):
        for spacing in ((1.0, 1.0, 1.0), (1.0, 1.0, 5.0)):
            labels, _ = ellipsoid(spacing, (50.0, 50.0, 50.0), (0.2, 0.1, 0.3))
            self.assertAlmostEqual(surfaces_of(labels).parts[0].volume / (4 / 3 * np.pi * 50**3), 1, delta=0.005)

    def test_sheared_mirrored_and_tiny_grids(self):
        affine = np.array([[-2e-6, 4e-7, 0, 5.0], [0, 2e-6, 3e-7, 7.0], [0, 0, 3e-6, -2.0], [0, 0, 0, 1]])
        labels, _ = ellipsoid((1.0, 1.0, 1.0), (9.0, 8.0, 7.0), affine=affine)
        for stepped in (False, True):
            one = surfaces_of(labels, stepped=stepped).parts[0]
            self.assertAlmostEqual(one.volume / (labels.counts[1] * labels.space.voxel_volume), 1, delta=1e-3)

    def test_specks_rods_sheets_and_noise_are_all_there(self):
        space = Space((30, 30, 30), np.eye(4))
        shapes = {
            "speck": (slice(10, 11), slice(12, 13), slice(9, 10)),
            "pair": (slice(10, 12), slice(12, 13), slice(9, 10)),
            "rod": (slice(4, 24), slice(12, 13), slice(9, 10)),
            "sheet": (slice(4, 24), slice(4, 24), slice(9, 10)),
            "edge": (slice(0, 30), slice(0, 30), slice(0, 2)),
        }
        for name, box in shapes.items():
            numbers = np.zeros(space.shape, np.uint16)
            numbers[box] = 1
            one = surfaces_of(mapped(space, numbers)).parts[0]
            self.assertAlmostEqual(one.volume / numbers.sum(), 1, delta=0.005, msg=name)
            low, high = one.corners.min(0), one.corners.max(0)
            true = np.array([(s.start - 0.5, s.stop - 0.5) for s in box])
            self.assertLess(np.abs(np.stack((low, high), 1) - true).max(), 0.8, name)
        noise = mapped(space, np.random.default_rng(4).random(space.shape) < 0.3)
        one = surfaces_of(noise).parts[0]
        self.assertAlmostEqual(one.volume / noise.counts[1], 1, delta=0.005)

    def test_labels_beside_each_other_do_not_run_into_each_other(self):
        space = Space((40, 40, 40), np.eye(4))
        away = np.moveaxis(np.indices(space.shape), 0, -1)
        a = ((away - (13, 19.5, 19.5)) ** 2).sum(-1) < 9**2
        b = ((away - (27, 19.5, 19.5)) ** 2).sum(-1) < 9**2
        left, right = away[..., 0] < 20, away[..., 0] > 20  # one voxel between them
        numbers = np.where(a & left, 1, np.where(b & right, 2, 0))
        labels = mapped(space, numbers, "A", "B")
        first, second = surfaces_of(labels).parts
        self.assertGreater(second.corners[:, 0].min() - first.corners[:, 0].max(), 0.9)
        touching = mapped(space, np.where(a | b, np.where(away[..., 0] < 20, 1, 2), 0), "A", "B")
        first, second = surfaces_of(touching).parts
        self.assertGreater(second.corners[:, 0].min() - first.corners[:, 0].max(), -0.4)

    def test_what_has_no_surface_is_said(self):
        labels, _ = ellipsoid((1.0, 1.0, 1.0), (5.0, 5.0, 5.0))
        labels.table = LabelTable([*labels.table, Label(2, "Empty", "#FFFFFF")])
        with self.assertRaisesRegex(Trouble, "“Empty” has no voxels, and so no surface: draw it first"):
            surfaces_of(labels, ["Empty"])
        with self.assertRaisesRegex(Trouble, "There is no label “Nose”"):
            surfaces_of(labels, ["Nose"])
        flat = mapped(Space((9, 9, 1), np.eye(4)), np.ones((9, 9, 1)))
        with self.assertRaisesRegex(Trouble, "is of a picture, and has no surface"):
            surfaces_of(flat)
        with self.assertRaisesRegex(Trouble, "has no label that is drawn"):
            surfaces_of(LabelMap(labels.space))
        with self.assertRaisesRegex(Trouble, "has no triangles"):
            Surfaces((Surface(np.zeros((0, 3)), np.zeros((0, 3))),), "Nothing")


class BlocksTest(unittest.TestCase):
    def test_blocks_meet_and_only_those_near_a_change_are_made(self):
        labels, _ = ellipsoid((1.0, 1.0, 1.0), (40.0, 45.0, 25.0))
        states = states_of(labels, 1)
        parts, first, corners, triangles = [], 0, [], []
        for k, j, i in np.ndindex(*(-(-n // SIDE) for n in labels.kji.shape)):
            places, sides = block_surface(labels, 1, (i, j, k))
            corners.append(places)
            triangles.append(sides + first)
            first += len(places)
            parts.append(len(sides))
        merged, where = np.unique(np.round(np.concatenate(corners), 4), axis=0, return_inverse=True)
        whole = Surface(merged, where[np.concatenate(triangles)].reshape(-1, 3))
        self.assertEqual(whole.open_edges, 0)
        self.assertAlmostEqual(whole.volume / labels.counts[1], 1, delta=0.005)
        self.assertGreater(sum(n > 0 for n in parts), 4)
        self.assertEqual(changed_blocks(states, states), [])
        for place, near in (((5, 5, 5), {(0, 0, 0)}), ((5, 5, 33), {(0, 0, 0), (1, 0, 0)})):
            labels.kji[place] ^= 1
            changed = changed_blocks(states, states_of(labels, 1))
            self.assertEqual(set(changed), near)
            labels.kji[place] ^= 1


class SimplerTest(unittest.TestCase):
    def test_a_share_of_the_triangles_and_the_volume(self):
        labels, middle = ellipsoid((1.0, 1.0, 1.0), (20.0, 16.0, 18.0))
        one = surfaces_of(labels).parts[0]
        for share in (0.5, 0.1, 0.02):
            corners, triangles = fewer(one.corners, one.triangles, share)
            less = Surface(corners, triangles)
            self.assertAlmostEqual(len(triangles) / len(one.triangles), share, delta=0.02)
            self.assertAlmostEqual(less.volume / one.volume, 1, delta=0.002)
            self.assertEqual(less.open_edges, 0)


class InsideTest(unittest.TestCase):
    def test_a_surface_gives_its_voxels_back(self):
        for affine in (
            np.diag([1.0, 1, 1, 1]),
            np.array([[0, 1, 0.2, 4], [-1, 0, 0, 2], [0, 0, 2.0, 9], [0, 0, 0, 1.0]]),
        ):
            labels, _ = ellipsoid((1.0, 1.0, 1.0), (11.0, 9.0, 8.0), affine=affine)
            for stepped in (True, False):
                one = surfaces_of(labels, stepped=stepped).parts[0]
                inside, box = voxels_within(one, labels.space)
                found = np.zeros(labels.kji.shape, bool)
                found[box] = inside
                wrong = np.count_nonzero(found != (labels.kji == 1))
                self.assertLessEqual(wrong, 0 if stepped else 0.04 * labels.counts[1])

    def test_a_hollow_stays_hollow_and_what_is_cut_by_the_grid_is_kept(self):
        space = Space((30, 30, 30), np.eye(4))
        away = np.sqrt(((np.moveaxis(np.indices(space.shape), 0, -1) - 14.5) ** 2).sum(-1))
        shell = surfaces_of(mapped(space, (away < 12) & (away > 6))).parts[0]
        inside, box = voxels_within(shell, space)
        found = np.zeros((30, 30, 30), bool)
        found[box] = inside
        self.assertFalse(found[15, 15, 15])
        self.assertTrue(found[15, 15, 6])
        part = Space((30, 30, 10), np.array([[1, 0, 0, 0], [0, 1, 0, 0], [0, 0, 1, 10.0], [0, 0, 0, 1]]))
        inside, box = voxels_within(shell, part)
        cut = np.zeros((10, 30, 30), bool)
        cut[box] = inside
        np.testing.assert_array_equal(cut, found[10:20])


if __name__ == "__main__":
    unittest.main()
