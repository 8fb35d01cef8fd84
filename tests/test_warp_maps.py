"""Transforms as images, and undistortion as a transform, against closed forms."""

import unittest

import numpy as np
from scipy import ndimage

from kestrelmist.align.field_of_undistortion import field_of_undistortion
from kestrelmist.align.lay import hand_matrix
from kestrelmist.align.warp_maps import warp_maps
from kestrelmist.core.displacement import DisplacementField
from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.space import Space, picture_space
from kestrelmist.core.transform import Transform
from kestrelmist.core.world import World
from kestrelmist.prepare.grid.apply_transform import apply_transform
from tests.making import tilted_space

SPACE = tilted_space((22, 24, 20), (0.7, 0.8, 1.1))


def grid(space: Space = SPACE) -> Image:
    return Image(np.zeros(space.shape, np.float32), space, "Grid")


class MapsTest(unittest.TestCase):
    def test_an_affine_one_stretches_alike_everywhere(self):
        found = warp_maps(grid(), Transform(hand_matrix((3, 0, 4), (0, 0, 0), 1, (0, 0, 0)), name="T"))
        np.testing.assert_allclose(found.jacobian.data, 1.0, atol=1e-5)
        np.testing.assert_allclose(found.shift.data, 5.0, atol=1e-4)
        self.assertEqual((found.shift.unit, found.jacobian.name), ("mm", "T, Jacobian"))
        matrix = hand_matrix((1, 2, 3), (4, 5, 6), 1.2, (0, 0, 0)) @ np.diag((1.1, 0.8, 1.0, 1.0))
        found = warp_maps(grid(), Transform(matrix))
        np.testing.assert_allclose(found.jacobian.data, np.linalg.det(matrix[:3, :3]), rtol=1e-4)

    def test_a_wave_against_its_slope(self):
        x = SPACE.to_world(np.indices(SPACE.shape).reshape(3, -1).T)[:, 0].reshape(SPACE.shape)
        shifts = np.zeros((*SPACE.shape, 3), np.float32)
        shifts[..., 0] = np.sin(x / 4)
        found = warp_maps(grid(), DisplacementField(shifts, SPACE, name="W")).jacobian.data
        inner = (slice(2, -2),) * 3
        np.testing.assert_allclose(found[inner], (1 + np.cos(x / 4) / 4)[inner], atol=0.01)

    def test_pictures_and_folding(self):
        space = picture_space(20, 16, (0.5, 0.5))
        found = warp_maps(grid(space), Transform(np.diag((2.0, 3.0, 1.0, 1.0))))
        np.testing.assert_allclose(found.jacobian.data, 6.0, rtol=1e-5)
        x = SPACE.to_world(np.indices(SPACE.shape).reshape(3, -1).T)[:, 0].reshape(SPACE.shape)
        shifts = np.zeros((*SPACE.shape, 3), np.float32)
        shifts[..., 0] = -3 * x
        self.assertLess(warp_maps(grid(), DisplacementField(shifts, SPACE)).jacobian.data.max(), 0)
        there = Transform(np.eye(4), World("a", "a"), World("b", "b"), "T")
        with self.assertRaisesRegex(Trouble, "“T” starts from a"):
            warp_maps(grid(SPACE.in_world(World("c", "c"))), there)
        with self.assertRaisesRegex(Trouble, "has one voxel"):
            warp_maps(grid(Space((1, 1, 1), np.eye(4))), Transform(np.eye(4)))


class UndistortionTest(unittest.TestCase):
    def test_a_distorted_image_is_brought_back_with_all_other_steps_at_once(self):
        rng = np.random.default_rng(1)
        space = Space((40, 44, 24), np.diag([1.0, 1.0, 2.0, 1.0]))
        true = ndimage.gaussian_filter(rng.normal(size=space.shape), 5).astype(np.float32) * 100
        shift = ndimage.gaussian_filter(rng.normal(size=space.shape), 7).astype(np.float32) * 60
        seen = np.stack([np.interp(np.arange(44), np.arange(44) + shift[i, :, k], true[i, :, k])
                         for i in range(40) for k in range(24)]).reshape(40, 24, 44).transpose(0, 2, 1)  # fmt: skip
        way = field_of_undistortion(Image(shift, space, "Run, shift", unit="voxels"), along="j")
        self.assertEqual(way.name, "Run, undistortion")
        move = hand_matrix((1.0, -2.0, 0.0), (0, 0, 0), 1, (0, 0, 0))  # by whole voxels
        run = Image(np.ascontiguousarray(seen.astype(np.float32)), space, "Run")
        brought = apply_transform(run, [Transform(move, name="Motion"), way], grid(space), how="cubic").data
        wanted = np.roll(true, (-1, 2), (0, 1))
        inner = (slice(6, -6), slice(10, -10), slice(2, -2))
        before = np.abs(np.roll(seen, (-1, 2), (0, 1)) - wanted)[inner].mean()
        self.assertLess(np.abs(brought - wanted)[inner].mean(), 0.12 * before)

    def test_wrong_input(self):
        shift = np.zeros((4, 4, 4), np.float32)
        space = Space((4, 4, 4), np.eye(4))
        for words, image in (
            ("is in Hz", Image(shift, space, "S", unit="Hz")),
            ("are no numbers", Image(shift * np.nan, space, "S", unit="voxels")),
        ):
            with self.subTest(words), self.assertRaisesRegex(Trouble, words):
                field_of_undistortion(image)
