import unittest

import numpy as np

from kestrelmist.align.lay import hand_matrix
from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap, LabelTable
from kestrelmist.core.space import Space
from kestrelmist.core.transform import Transform
from kestrelmist.core.world import World
from kestrelmist.prepare.grid.label_share import label_share

FINE = Space((48, 48, 48), np.diag([0.25, 0.25, 0.25, 1.0]), world=World("fine", "fine"))


def ball(radius: float = 4.0) -> LabelMap:
    places = FINE.to_world(np.indices(FINE.shape).reshape(3, -1).T) - FINE.centre
    inside = (np.linalg.norm(places, axis=1) < radius).reshape(FINE.shape)
    return LabelMap(FINE, inside.astype(np.uint16), LabelTable().with_new("Ball")[0], "Labels")


def coarse(world: World = FINE.world) -> Image:
    affine = np.diag([1.5, 1.5, 2.0, 1.0])
    affine[:3, 3] = (-1.2, -1.0, -1.4)
    return Image(np.zeros((10, 10, 8), np.float32), Space((10, 10, 8), affine, world=world), "Run", subject="HM-1")


class ShareTest(unittest.TestCase):
    def test_the_whole_of_it_is_there_and_shares_lie_between(self):
        found = label_share(coarse(), ball(), label="Ball")
        volume = float(np.asarray(found.data).sum()) * 1.5 * 1.5 * 2.0
        self.assertAlmostEqual(volume / (4 / 3 * np.pi * 4.0**3), 1.0, delta=0.02)
        self.assertTrue(0.0 <= found.data.min() and found.data.max() <= 1.0)
        self.assertGreater(((found.data > 0.2) & (found.data < 0.8)).sum(), 20)
        self.assertEqual(found.name, "Ball, share in Run")

    def test_through_a_way(self):
        other = World("run", "run")
        way = Transform(hand_matrix((3.0, 0, 0), (0, 0, 0), 1, (0, 0, 0)), other, FINE.world, "Way")
        found = label_share(coarse(other), ball(), label="Ball", through=way)
        i, _, _ = (np.average(axis, weights=found.data) for axis in np.indices(found.data.shape))
        middle = found.space.to_world((i, 0, 0))[0]
        self.assertAlmostEqual(middle, FINE.centre[0] - 3.0, delta=0.1)
        with self.assertRaisesRegex(Trouble, "no transform"):
            label_share(coarse(other), ball(), label="Ball")

    def test_wrong_input(self):
        with self.assertRaisesRegex(Trouble, "has no label “Cube”: choose one of: Ball"):
            label_share(coarse(), ball(), label="Cube")
        with self.assertRaisesRegex(Trouble, "has no voxel"):
            label_share(coarse(), ball(0.0), label="Ball")
