import math
import unittest

import numpy as np

from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap
from kestrelmist.measure.regions.measure_labels import measure_labels
from kestrelmist.prepare.intensity.scale import scale
from kestrelmist.prepare.intensity.smooth import smooth
from tests.making import labelled, straight_space, tilted_space, two_balls


class MeasureLabelsTest(unittest.TestCase):
    def test_volume_of_a_ball_on_a_tilted_grid(self):
        space = tilted_space((60, 66, 44), (0.25, 0.25, 0.4))
        away = np.linalg.norm(space.to_world(np.indices(space.shape).reshape(3, -1).T) - space.centre, axis=1).reshape(
            space.shape
        )
        rng = np.random.default_rng(0)
        image = Image(rng.normal(40, 7, space.shape).astype(np.float32), space, unit="HU")
        labels = LabelMap(space, (away <= 5).astype(np.uint16))
        table = measure_labels(image, labels)
        truth = 4 / 3 * math.pi * 125
        (volume,), (spread,) = table.column("volume"), table.column("volume_uncertainty")
        self.assertAlmostEqual(volume, truth, delta=0.005 * truth)
        self.assertLess(abs(volume - truth), 4 * spread)
        self.assertLess(spread, 0.01 * truth)
        self.assertAlmostEqual(table.column("volume_cm3")[0], volume / 1000)

    def test_mean_and_spread_are_exact(self):
        rng = np.random.default_rng(1)
        space = straight_space((12, 13, 14))
        values, numbers = (
            rng.integers(-1000, 3000, space.shape).astype(np.int16),
            rng.integers(0, 4, space.shape).astype(np.uint16),
        )
        table = measure_labels(Image(values, space, unit="HU"), LabelMap(space, numbers))
        for row, number in enumerate((1, 2, 3)):
            inside = values[numbers == number].astype(float)
            self.assertEqual(table.column("voxels")[row], inside.size)
            self.assertAlmostEqual(table.column("mean")[row], inside.mean(), places=8)
            self.assertAlmostEqual(table.column("sd")[row], inside.std(ddof=1), places=8)
        self.assertEqual([c.unit for c in table.columns if c.name in ("volume", "mean")], ["mm3", "HU"])

    def test_an_empty_label_and_another_grid(self):
        image = two_balls()
        table = measure_labels(image, labelled(image, "Empty"))
        self.assertEqual((table.column("voxels"), table.column("mean"), table.column("sd")), ([0], [None], [None]))
        with self.assertRaisesRegex(Trouble, "another grid"):
            measure_labels(image, LabelMap(straight_space((10, 10, 10))))


class PrepareTest(unittest.TestCase):
    def test_smoothing_widens_a_point_to_its_fwhm(self):
        space = straight_space((61, 61, 41), 0.25)
        values = np.zeros(space.shape, np.float32)
        values[30, 30, 20] = 1e6
        line = smooth(Image(values, space), 2.0).data[:, 30, 20]
        above = np.flatnonzero(line >= line.max() / 2)
        a, b = above[0], above[-1]
        left = a - (line[a] - line.max() / 2) / (line[a] - line[a - 1])
        right = b + (line[b] - line.max() / 2) / (line[b] - line[b + 1])
        self.assertAlmostEqual((right - left) * 0.25, 2.0, delta=0.02)
        self.assertAlmostEqual(float(smooth(Image(values, space), 2.0).data.sum()), 1e6, delta=10)

    def test_scaling_puts_the_percentiles_where_asked(self):
        rng = np.random.default_rng(0)
        image = Image(rng.normal(500, 80, (30, 30, 30)).astype(np.float32), straight_space((30, 30, 30)))
        low, high = np.percentile(scale(image, 10, 20).data, (1, 99))
        self.assertAlmostEqual(low, 10, places=2)
        self.assertAlmostEqual(high, 20, places=2)
        with self.assertRaisesRegex(Trouble, "one value"):
            scale(Image(np.zeros((5, 5, 5), np.int16), straight_space((5, 5, 5))))
