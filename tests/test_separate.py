import unittest

import numpy as np

from kestrelmist.core.errors import Cancelled, Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.progress import Progress
from kestrelmist.core.space import Space
from kestrelmist.outline.grow import grow
from kestrelmist.outline.shaping.separate import separate
from kestrelmist.outline.shrink_to_share import shrink_to_share
from tests.making import labelled, straight_space, two_balls
from tests.test_bridge import ellipsoid, places
from tests.test_shaping import after, mapped, voxels


class SeparateTest(unittest.TestCase):
    """Two balls and the rod between them, whose volumes are known."""

    def setUp(self):
        self.image = two_balls(straight_space((64, 50, 48), 0.3))
        self.labels = mapped(self.image.space, Bone=(self.image.data > 500).T)
        x = places(self.image.space)[0]
        self.left, self.right = (voxels(self.labels, "Bone") & side for side in (x < 0.45, x >= 0.45))

    def close_to(self, made, name, mask, share=0.01):
        apart = np.count_nonzero(voxels(made, name) ^ mask)
        self.assertLess(apart / mask.sum(), share)

    def test_by_necks(self):
        made = after(self.labels, separate(self.labels, "Bone"))
        self.assertEqual([row.name for row in made.table], ["Bone", "Bone 2"])
        self.close_to(made, "Bone", self.left, 0.08)  # the rod between them is as thin everywhere
        self.close_to(made, "Bone 2", self.right, 0.2)
        x = places(self.image.space)[0]
        np.testing.assert_array_equal(voxels(made, "Bone") & (x < -3), self.left & (x < -3))
        np.testing.assert_array_equal(voxels(made, "Bone 2") & (x > 3), self.right & (x > 3))
        self.assertEqual(int(made.counts[1] + made.counts[2]), int(self.labels.counts[1]))

    def test_a_plate_with_a_waist_stays_one_and_a_ball_that_touches_it_comes_off(self):
        space = straight_space((90, 60, 50), 0.5)
        plate = np.zeros(space.shape[::-1], bool)
        plate[13:23, 4:56, 6:84] = True
        plate[13:23, 4:14, 40:50] = plate[13:23, 46:56, 40:50] = False  # a waist of 32 of 52
        plate[13:16, 4:56, 26:30] = plate[20:23, 4:56, 26:30] = False  # a groove: thin, and as wide as all of it
        x, y, z = places(space)
        ball = (x - 10) ** 2 + y**2 + (z - 2.6) ** 2 < 4.2**2
        ball &= ~plate & (z > space.to_world((0, 0, 22))[2] + 0.1)
        labels = mapped(space, Bone=plate | ball)
        made = after(labels, separate(labels, "Bone"))
        self.assertEqual(len(made.table), 2)
        pieces = sorted(((made.kji == n) & ball).sum() / ball.sum() for n in (1, 2))
        self.assertLess(pieces[0], 0.1)
        self.assertGreater(pieces[1], 0.9)
        rod = np.zeros_like(plate)
        rod[20:26, 20:26, 2:88] = True
        with self.assertRaisesRegex(Trouble, "in one part"):
            separate(mapped(space, Rod=rod), "Rod")

    def test_by_seeds_in_their_order(self):
        made = after(self.labels, separate(self.labels, "Bone", "seeds", points="4,0,0; -4,0,0"))
        self.close_to(made, "Bone", self.right, 0.04)
        self.close_to(made, "Bone 2", self.left, 0.02)
        joined = separate(self.labels, "Bone", "seeds", points="4,0,0 = -4,0,0; -4,2,0")
        self.assertEqual(int(after(self.labels, joined).counts[1:].sum()), int(self.labels.counts[1]))

    def test_by_a_plane(self):
        made = after(self.labels, separate(self.labels, "Bone", "plane", points="0.45,0,0; 0.45,1,0; 0.45,0,1"))
        self.close_to(made, "Bone", self.left, 0.002)
        self.close_to(made, "Bone 2", self.right, 0.002)

    def test_five_that_touch_on_a_grid_of_long_voxels_and_a_picture(self):
        space = Space((120, 24, 12), np.diag([0.25, 0.25, 0.5, 1.0]))
        chain = np.zeros(space.shape[::-1], bool)
        for n in range(5):
            chain |= ellipsoid(space, (3 + 5.4 * n, 3, 3), (2.9, 2.6, 2.4))
        made = after(mapped(space, Cell=chain), separate(mapped(space, Cell=chain), "Cell"))
        self.assertEqual([int(n > 0) for n in made.counts[1:7]], [1, 1, 1, 1, 1, 0])
        flat = Space((120, 24, 1), np.diag([0.25, 0.25, 1.0, 1.0]))
        labels = mapped(flat, Cell=chain[6:7])
        self.assertEqual(len(after(labels, separate(labels, "Cell")).table), 5)

    def test_wrong_input(self):
        one = mapped(self.image.space, Bone=ellipsoid(self.image.space, (0, 0, 0), (3, 3, 3)))
        locked = self.labels.copied()
        locked.table = locked.table.changed(1, locked=True)
        for labels, given, words in (
            (one, {}, "in one part"),
            (locked, {}, "is locked"),
            (self.labels, {"how": "seeds", "points": "4,0,0"}, "two parts"),
            (self.labels, {"how": "seeds", "points": "4,0,0; 9,9,9"}, "does not lie in"),
            (self.labels, {"how": "seeds", "points": "4,0,0; 4,0,0"}, "in one voxel"),
            (self.labels, {"how": "plane", "points": "4,0,0; 4,0,0"}, "three points"),
            (self.labels, {"how": "plane", "points": "1,0,0; 2,0,0; 3,0,0"}, "on one line"),
            (self.labels, {"how": "plane", "points": "90,0,0; 90,1,0; 90,0,1"}, "in one part"),
        ):
            with self.subTest(words=words), self.assertRaisesRegex(Trouble, words):
                separate(labels, "Bone", **given)
        progress = Progress()
        progress.cancel()
        with self.assertRaises(Cancelled):
            separate(self.labels, "Bone", progress=progress)


class ShrinkToShareTest(unittest.TestCase):
    """Of a cone of values, where every share has a known radius."""

    def setUp(self):
        self.space = straight_space((40, 40, 40), 0.5)
        self.away = np.sqrt((places(self.space) ** 2).sum(0))
        self.values = np.clip(1000 - 100 * self.away, 0, None)
        self.image = Image(self.values.T.astype(np.float32), self.space)
        self.labels = mapped(self.space, Spot=self.away < 9)

    def test_in_the_volume_and_in_each_slice(self):
        most = self.values.max()
        for share in (0.4, 0.7, 1.0):
            made = after(self.labels, shrink_to_share(self.image, self.labels, "Spot", share))
            np.testing.assert_array_equal(voxels(made, "Spot"), (self.values >= share * most - 1e-3) & (self.away < 9))
        made = after(self.labels, shrink_to_share(self.image, self.labels, "Spot", 0.4, within="axial"))
        limits = 0.4 * np.where(self.away < 9, self.values, 0).max((1, 2), keepdims=True)
        np.testing.assert_array_equal(voxels(made, "Spot"), (self.values >= limits - 1e-3) & (self.away < 9))
        mean = self.values[self.away < 9].mean()
        made = after(self.labels, shrink_to_share(self.image, self.labels, "Spot", 1.2, "mean"))
        np.testing.assert_array_equal(voxels(made, "Spot"), (self.values >= 1.2 * mean) & (self.away < 9))

    def test_small_and_large_values_and_missing_ones(self):
        for factor in (1e-8, 1e6):
            image = Image((self.values.T * factor).astype(np.float32), self.space)
            made = after(self.labels, shrink_to_share(image, self.labels, "Spot", 0.5))
            self.assertEqual(int(made.counts[1]), int((self.values >= 0.5 * self.values.max()).sum()))
        holed = self.values.T.astype(np.float32).copy()
        holed[20, 20, 20] = np.nan
        made = after(self.labels, shrink_to_share(Image(holed, self.space), self.labels, "Spot", 0.5))
        self.assertGreater(int(made.counts[1]), 100)

    def test_wrong_input(self):
        negative = Image(-self.values.T.astype(np.float32) - 1, self.space)
        empty = Image(np.full(self.space.shape, np.nan, np.float32), self.space)
        for image, given, words in (
            (self.image, {"share": 0.0}, "keeps everything"),
            (self.image, {"share": 1.1}, "1.1 times the maximum"),
            (self.image, {"share": 99.0, "of": "mean"}, "would be left"),
            (self.image, {"label": "Nose"}, "no label “Nose”"),
            (negative, {}, "not above 0"),
            (empty, {}, "no value"),
        ):
            with self.subTest(words=words), self.assertRaisesRegex(Trouble, words):
                shrink_to_share(image, self.labels, **{"label": "Spot", **given})


class GrowLimitsTest(unittest.TestCase):
    def test_no_further_than_a_radius_and_not_over_an_edge(self):
        image = two_balls()
        labels = labelled(image, "Bone")
        made = after(labels, grow(image, labels, "Bone", (-4, 0, 0), low=500, high=2000, radius=5.0))
        away = np.linalg.norm(places(image.space) - np.reshape((-4.0, 0, 0), (3, 1, 1, 1)), axis=0)
        start = image.space.to_world(image.space.nearest_voxel((-4, 0, 0)))
        away = np.linalg.norm(places(image.space) - np.reshape(start, (3, 1, 1, 1)), axis=0)
        np.testing.assert_array_equal(voxels(made, "Bone"), (image.data > 500).T & (away <= 5.0))
        x = places(image.space)[0]
        ramp = Image((np.where(x < 0, 0, 100) + x).T.astype(np.float32), image.space)
        made = after(labels, grow(ramp, labels, "Bone", (-4, 0, 0), low=-50, high=150, slope=20.0))
        self.assertEqual(int(made.counts[1]), int((x < -0.4).sum()))
        with self.assertRaisesRegex(Trouble, "steeper"):
            grow(ramp, labels, "Bone", (0.1, 0, 0), low=-50, high=150, slope=20.0)


if __name__ == "__main__":
    unittest.main()
