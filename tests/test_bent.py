"""What is seen through mappings that bend space: by kernels as by numpy."""

import unittest

import numpy as np
from scipy import ndimage

from kestrelmist.align.lay import hand_matrix
from kestrelmist.core import kernel
from kestrelmist.core.chain import joined
from kestrelmist.core.displacement import DisplacementField
from kestrelmist.core.image import Image
from kestrelmist.core.kernel import unmarked
from kestrelmist.core.space import Space
from kestrelmist.core.transform import Transform
from kestrelmist.core.warp import Warp
from kestrelmist.scene import bent
from kestrelmist.scene.view import AXIAL, SAGITTAL, plane_view

GRID = Space((24, 26, 22), np.diag([2.0, 2.0, 2.0, 1.0]))
TURN = hand_matrix((1, 2, -1), (5, -8, 12), 1.05, GRID.centre)


def smooth(seed: int, size: float) -> np.ndarray:
    rng = np.random.default_rng(seed)
    parts = [ndimage.gaussian_filter(rng.normal(size=GRID.shape[::-1]), 3) * size for _ in range(3)]
    return np.stack(parts, -1).astype(np.float32)


WARP = Warp(smooth(1, 20), GRID, TURN, np.linalg.inv(TURN))
FIELD = DisplacementField(np.ascontiguousarray(smooth(2, 30).transpose(2, 1, 0, 3)), GRID)
VIEWS = (plane_view(AXIAL, (24, 26, 20.3), 0.3, 160, 150), plane_view(SAGITTAL, (22, 25, 21), 0.25, 140, 170))


class BentTest(unittest.TestCase):
    def test_kernels_and_numpy_see_the_same(self):
        space = Space((40, 44, 36), np.diag([1.2, 1.2, 1.2, 1.0]))
        values = np.random.default_rng(3).normal(size=space.shape).astype(np.float32)
        values[10:14, 20:24] = np.nan
        ways = WARP, WARP.inverse(), FIELD, joined(Transform(TURN), joined(FIELD, Transform(TURN)))
        for way in ways:
            image = Image(values, space)
            image.through = way.prepared()
            for view in VIEWS:
                for soft in (True, False):
                    with kernel.used_here():
                        fast = bent.values(view, image, soft, True)
                    slow = bent.values(view, image, soft)
                    self.assertGreater(np.isfinite(slow).mean(), 0.5)
                    same = np.isclose(fast, slow, atol=2e-4, equal_nan=True)
                    self.assertGreater(same.mean(), 0.999)  # places on an edge between two voxels fall either way
                numbers = np.random.default_rng(4).integers(0, 900, space.shape[::-1]).astype(np.uint16)
                with kernel.used_here():
                    fast = bent.nearest(view, numbers, space, way, np.uint16, True)
                slow = bent.nearest(view, numbers, space, way, np.uint16)
                self.assertGreater((fast == slow).mean(), 0.999)

    def test_what_bends_more_than_once_is_no_single_bend(self):
        self.assertIsNone(joined(FIELD, WARP).bend())
        self.assertIsNone(FIELD.inverse().bend())
        self.assertIsNone(Transform(TURN).bend())
        one = joined(Transform(TURN), WARP).bend()
        points = np.random.default_rng(5).uniform(10, 35, (50, 3))
        before = points @ one.before[:3, :3].T + one.before[:3, 3]
        found = DisplacementField(one.shifts, one.space).to(before) @ one.after[:3, :3].T + one.after[:3, 3]
        np.testing.assert_allclose(found, joined(Transform(TURN), WARP.prepared()).to(points), atol=1e-4)

    def test_arrays_that_are_only_read(self):
        values = np.arange(24.0).reshape(2, 3, 4)
        self.assertIs(unmarked(values), values)
        values.flags.writeable = False
        self.assertTrue(unmarked(values).flags.writeable)
        self.assertEqual(unmarked(values).ctypes.data, values.ctypes.data)
        np.testing.assert_array_equal(unmarked(values), values)
        turned = values.transpose()
        self.assertIs(unmarked(turned), turned)
