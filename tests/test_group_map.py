import unittest

import numpy as np
from scipy import ndimage, stats

from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap, LabelTable
from kestrelmist.core.space import Space
from kestrelmist.measure.group_map import group_map

SHAPE = (20, 22, 18)
SPACE = Space(SHAPE, np.array([[-0.5, 0, 0, 4.0], [0, 0.5, 0, -5.0], [0, 0, 1.0, 2.0], [0, 0, 0, 1]]))


def maps(seed: int, count: int = 10, bright: float = 0.0, smooth: float = 1.0) -> list[Image]:
    """Smooth noise, and where there is something, a ball at voxel 12, 9, 7."""
    rng = np.random.default_rng(seed)
    far = np.linalg.norm(np.moveaxis(np.indices(SHAPE), 0, -1) - (12, 9, 7), axis=-1)
    found = []
    for n in range(count):
        noise = ndimage.gaussian_filter(rng.normal(size=SHAPE), smooth)
        values = noise / noise.std() + bright * np.exp(-((far / 2.0) ** 2))
        found.append(Image(values.astype(np.float32), SPACE, f"map {n}", subject=f"T-{n}"))
    return found


class GroupMapTest(unittest.TestCase):
    def test_t_is_that_of_an_independent_library_and_the_peak_is_found(self):
        first, *rest = maps(3, bright=3.0)
        rest[0].data[0, 0, 0] = np.nan
        made = group_map(first, rest, flips=200)
        stack = np.stack([i.data for i in (first, *rest)])
        wanted = stats.ttest_1samp(stack.astype(float), 0.0).statistic
        self.assertTrue(np.isnan(made.image.data[0, 0, 0]))
        np.testing.assert_allclose(made.image.data[1:], wanted[1:], rtol=2e-4, atol=1e-4)
        table = made.clusters
        self.assertLess(table.column("p")[0], 0.01)
        place = [table.column(axis)[0] for axis in "xyz"]
        self.assertLessEqual(np.linalg.norm(SPACE.to_voxel(np.array([place]))[0] - (12, 9, 7)), 0.6)
        np.testing.assert_allclose(made.mean.data[1:], stack.astype(float).mean(0)[1:], rtol=1e-5, atol=1e-6)
        self.assertEqual(table.column("mean")[0], made.mean.data[12, 9, 7])
        limit = stats.t.isf(0.0005, 9)
        labels, _ = ndimage.label(wanted > limit)
        self.assertEqual(table.column("voxels")[0], np.bincount(labels.ravel())[1:].max())
        self.assertAlmostEqual(table.column("volume")[0], 0.25 * table.column("voxels")[0])

    def test_a_peak_lies_between_voxels_and_within_what_was_tested(self):
        i, j, k = np.indices(SHAPE)
        for sign, middle in ((1.0, (12.3, 9.0, 6.6)), (-1.0, (4.0, 14.7, 10.2))):
            ball = 9.0 - 0.5 * sum((a - b) ** 2 for a, b in zip((i, j, k), middle))
            ball = sign * np.maximum(ball, 0)
            rng = np.random.default_rng(4)
            group = [Image((ball + n + rng.normal(0, 0.1, SHAPE)).astype(np.float32), SPACE) for n in (-0.2, 0.2) * 4]
            exact = group_map(group[0], group[1:], flips=100).clusters
            place = SPACE.to_voxel(np.array([[exact.column(axis)[0] for axis in "xyz"]]))[0]
            np.testing.assert_allclose(place, middle, atol=0.1)
            self.assertGreater(sign * exact.column("mean")[0], 8.0)
        edge = [Image(np.broadcast_to(np.arange(20.0)[:, None, None], SHAPE).astype(np.float32) + n, SPACE)
                for n in (-0.1, 0.1, 0.0, 0.05)]  # fmt: skip
        place = group_map(edge[0], edge[1:], flips=100).clusters
        self.assertEqual(SPACE.to_voxel(np.array([[place.column(axis)[0] for axis in "xyz"]]))[0, 0], 19.0)

    def test_where_there_is_nothing_hardly_a_cluster_is_found(self):
        false = 0
        for seed in range(40):
            first, *rest = maps(100 + seed, 8)
            p = group_map(first, rest, above=3.0, flips=100, seed=seed).clusters.column("p")
            false += bool(p and p[0] < 0.05)
        self.assertLessEqual(false, 5)  # 2 are expected

    def test_in_a_mask_the_same_again_and_few_or_none(self):
        first, *rest = maps(5, 6, 2.0)
        inside = np.zeros(SHAPE, np.uint16)
        inside[8:16, 5:13, 4:11] = 1
        mask = LabelMap(SPACE, inside, LabelTable().with_new("In")[0])
        one, two = (group_map(first, rest, mask=mask) for _ in range(2))
        self.assertEqual(one.clusters.rows, two.clusters.rows)
        self.assertTrue(np.isnan(one.image.data[inside == 0]).all())
        self.assertEqual(np.isfinite(one.image.data).sum(), inside.sum())
        least = 1 / 2**6  # all turns there are, the one that turns none among them
        self.assertGreaterEqual(min(one.clusters.column("p"), default=1.0), least)
        for images, words in (
            ((first, rest[:2]), "group of 3 tells nothing"),
            ((first, [*rest[:3], Image(np.zeros((4, 4, 4), np.float32), Space((4, 4, 4), np.eye(4)))]), "grid"),
            ((first, [Image(np.full(SHAPE, np.nan, np.float32), SPACE) for _ in range(3)]), "No voxel has a value"),
        ):
            with self.assertRaisesRegex(Trouble, words):
                group_map(*images)
        still = group_map(first.like(np.zeros(SHAPE, np.float32)), [Image(np.zeros(SHAPE, np.float32), SPACE)] * 4)
        self.assertEqual((still.clusters.count, float(np.nanmax(still.image.data))), (0, 0.0))
