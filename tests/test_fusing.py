import unittest

import numpy as np
from scipy import ndimage

from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.world import World
from kestrelmist.outline.fusing.consensus import consensus
from kestrelmist.outline.fusing.fuse_labels import fuse_labels
from tests.making import straight_space
from tests.test_bridge import dice, ellipsoid
from tests.test_shaping import mapped, voxels


class ConsensusTest(unittest.TestCase):
    """Raters whose faults are known."""

    def setUp(self):
        self.space = straight_space((36, 34, 32), 0.5)
        self.body = ellipsoid(self.space, (0, 0, 0), (6, 5, 5))
        rng = np.random.default_rng(0)
        self.maps = []
        for n, (missed, added) in enumerate(((0.05, 0.002), (0.10, 0.002), (0.04, 0.004), (0.60, 0.05))):
            drawn = (self.body & (rng.random(self.body.shape) > missed)) | (rng.random(self.body.shape) < added)
            one = mapped(self.space, Eye=drawn)
            one.name = f"Rater {n + 1}"
            self.maps.append(one)

    def test_votes_and_trust(self):
        for how, least in (("votes", 0.93), ("trust", 0.985)):
            agreed = consensus(self.maps[0], self.maps[1:], how)
            self.assertGreater(dice(voxels(agreed.labels, "Eye"), self.body), least)
            rows = {row[1]: row[2:] for row in agreed.raters.rows}
            self.assertEqual(set(rows), {f"Rater {n}" for n in range(1, 5)})
            self.assertLess(abs(rows["Rater 1"][0] - 0.95), 0.03)
            self.assertLess(abs(rows["Rater 4"][0] - 0.42), 0.1)
        votes = consensus(self.maps[0], self.maps[1:], "votes").labels
        count = sum((one.kji == 1).astype(int) for one in self.maps)
        np.testing.assert_array_equal(votes.kji == 1, count > 2)

    def test_wrong_input(self):
        for others, words in (
            ([], "two label maps or more"),
            ([mapped(straight_space((9, 9, 9)), Eye=np.ones((9, 9, 9), bool))], "another grid"),
            ([mapped(self.space, Nose=self.body)], "No label is drawn in two"),
        ):
            with self.subTest(words=words), self.assertRaisesRegex(Trouble, words):
                consensus(self.maps[0], others)


class FuseLabelsTest(unittest.TestCase):
    """Atlases that are bent otherwise than the image, each by a known field."""

    def setUp(self):
        self.space = straight_space((44, 40, 36), 0.5)
        self.image, self.truth = self.animal(0)

    def animal(self, seed):
        rng = np.random.default_rng(seed)
        bend = [ndimage.gaussian_filter(rng.standard_normal((36, 40, 44)), 6) for _ in range(3)]
        bend = [2.0 * b / np.abs(b).max() for b in bend]
        at = np.indices((36, 40, 44)) + bend
        labels = np.zeros((36, 40, 44), np.uint16)
        z, y, x = at - np.array((17.5, 19.5, 21.5)).reshape(3, 1, 1, 1)
        labels[(x / 16) ** 2 + (y / 14) ** 2 + (z / 13) ** 2 <= 1] = 1
        labels[((x - 5) / 5) ** 2 + (y / 6) ** 2 + (z / 6) ** 2 <= 1] = 2
        labels[((x + 6) / 4) ** 2 + ((y - 2) / 5) ** 2 + (z / 5) ** 2 <= 1] = 3
        values = np.array([50, 300, 500, 120])[labels] + rng.normal(0, 12, labels.shape)
        values = ndimage.gaussian_filter(values, 0.6)
        image = Image(values.T.astype(np.float32), self.space, f"Animal {seed}", f"A-{seed}", "MR")
        return image, mapped(self.space, Body=labels == 1, Core=labels == 2, Spot=labels == 3)

    def test_three_atlases_aligned_by_warp(self):
        others = [self.animal(n) for n in (1, 2, 3)]
        fused = fuse_labels(self.image, [i for i, _ in others], [m for _, m in others])
        plain = others[0][1]
        for name in ("Body", "Core", "Spot"):
            found = dice(voxels(fused.labels, name), voxels(self.truth, name))
            self.assertGreater(found, 0.93)
            self.assertGreater(found, dice(voxels(plain, name), voxels(self.truth, name)))
        self.assertTrue(0.0 <= float(fused.shares.data.min()) and float(fused.shares.data.max()) <= 1.0)

    def test_the_more_alike_one_wins_where_two_lie_as_they_are(self):
        good, bad = (self.image, self.truth), self.animal(5)
        fused = fuse_labels(self.image, [bad[0], good[0]], [bad[1], good[1]], "as they lie")
        for name in ("Body", "Core", "Spot"):
            self.assertGreater(dice(voxels(fused.labels, name), voxels(self.truth, name)), 0.98)

    def test_wrong_input(self):
        other = Image(self.image.data, self.space.in_world(World("1")), "Other")
        here = Image(self.image.data, self.space.in_world(World("2")), "Here")
        for atlases, regions, words in (
            ([self.image], [], "1 atlases and 0 label maps"),
            ([], [], "0 atlases"),
            ([self.image], [mapped(straight_space((9, 9, 9)), A=np.ones((9, 9, 9), bool))], "another grid"),
            ([self.image], [mapped(self.space)], "None of the atlases has a label"),
        ):
            with self.subTest(words=words), self.assertRaisesRegex(Trouble, words):
                fuse_labels(self.image, atlases, regions, "as they lie")
        with self.assertRaisesRegex(Trouble, "space"):
            fuse_labels(here, [other], [mapped(other.space, A=np.ones((36, 40, 44), bool))], "as they lie")


if __name__ == "__main__":
    unittest.main()
