"""How sure means of traces are, by how often they hold what is true, over noise of many kinds made up here."""

import math
import unittest

import numpy as np
from scipy import ndimage

from kestrelmist.measure.plateaus import step_in
from kestrelmist.measure.trace_noise import of_difference, of_step

SEEDS = 40
LEAST = 0.85
"""Of so many seeds, an honest 95 of 100 falls below this one time in two hundred."""


def together(rng, shape, reach: float) -> np.ndarray:
    """Noise of standard deviation 1 that goes together over so many points."""
    if not reach:
        return rng.standard_normal(shape)
    pad = int(5 * reach) + 2
    noise = ndimage.gaussian_filter(rng.standard_normal([n + 2 * pad for n in shape]), reach)
    inner = noise[(slice(pad, -pad),) * len(shape)]
    return inner * math.sqrt(2 * reach * math.sqrt(math.pi)) ** len(shape)


def turned(rng, shape, degrees: float = 30) -> np.ndarray:
    """White noise of pixels, interpolated along lines side by side that lie turned in it."""
    pixels = rng.standard_normal((300, 300))
    x, y = np.meshgrid(*(np.arange(n) - n / 2 + rng.random() for n in shape), indexing="ij")
    c, s = math.cos(math.radians(degrees)), math.sin(math.radians(degrees))
    return ndimage.map_coordinates(pixels, [150 + c * x - s * y, 150 + s * x + c * y], order=1)


class CursorsTest(unittest.TestCase):
    def held(self, make, width: int, long: int = 160) -> float:
        inside = 0
        for seed in range(SEEDS):
            lines = make(np.random.default_rng([width, seed]), (long, width)) + np.linspace(0, 5, width)
            lines[long // 2 :] += 40
            first, second = long // 4, 3 * long // 4
            sure = of_difference(lines, first, second)
            assert sure is not None
            inside += abs(lines[second].mean() - lines[first].mean() - 40) <= sure.expanded()
        return inside / SEEDS

    def test_noise_of_every_point_alone(self):
        for width in (3, 31):
            self.assertGreaterEqual(self.held(lambda rng, shape: together(rng, shape, 0), width), LEAST, width)

    def test_noise_that_goes_together_over_two_points(self):
        for width in (5, 31):
            self.assertGreaterEqual(self.held(lambda rng, shape: together(rng, shape, 2), width), LEAST, width)

    def test_lines_that_are_interpolated_from_the_same_pixels(self):
        for width in (5, 31):
            self.assertGreaterEqual(self.held(turned, width), LEAST, width)

    def test_it_is_not_wider_than_it_has_to_be(self):
        rng = np.random.default_rng(5)
        needed = 1.96 * math.sqrt(2 / 40)
        stated = [of_difference(rng.standard_normal((200, 40)), 50, 150).expanded() for _ in range(20)]
        self.assertLess(np.median(stated), 1.15 * needed)
        self.assertGreater(np.median(stated), 0.95 * needed)

    def test_a_cloud_as_long_as_the_line_is_too_short_to_tell(self):
        lines = together(np.random.default_rng(2), (40, 12), 12)
        self.assertTrue(of_difference(lines, 10, 30).too_short)
        self.assertFalse(of_difference(np.random.default_rng(2).standard_normal((100, 12)), 20, 70).too_short)

    def test_lines_without_noise_and_lines_without_values(self):
        self.assertEqual(of_difference(np.full((50, 5), 3.0), 10, 40).expanded(), 0)
        self.assertIsNone(of_difference(np.full((50, 5), np.nan), 10, 40))
        self.assertIsNone(of_difference(np.zeros((50, 1)), 10, 40))

    def test_a_speck_of_dust_beside_a_place_does_not_count(self):
        lines = np.random.default_rng(4).standard_normal((120, 20))
        clean = of_difference(lines, 40, 90).expanded()
        lines[44:47, 3:6] += 400
        self.assertAlmostEqual(of_difference(lines, 40, 90).expanded() / clean, 1, delta=0.1)


class StepsTest(unittest.TestCase):
    def held(self, reach: float, long: int, seeds: int = SEEDS) -> tuple[float, int]:
        inside = short = 0
        for seed in range(seeds):
            along = np.arange(float(long))
            values = 50 * (along > 0.55 * long) + together(np.random.default_rng([long, seed]), (long,), reach)
            step = step_in(along, values[:, None], "made up")
            inside += abs(step.height - 50) <= step.expanded()
            short += step.too_short
        return inside / seeds, short

    def test_noise_of_every_kind(self):
        for reach, long in ((0, 60), (2, 120), (8, 400)):
            share, _ = self.held(reach, long)
            self.assertGreaterEqual(share, LEAST, (reach, long))

    def test_waves_on_a_short_line_bring_the_word(self):
        self.assertGreater(self.held(8, 60, 20)[1], 18)
        self.assertLess(self.held(0, 240, 20)[1], 2)

    def test_a_step_without_noise_is_sure(self):
        along = np.arange(100.0)
        height, slope, sure = of_step(along, 7.0 * (along > 50) + 0.25 * along, (along > 50).astype(float))
        self.assertAlmostEqual(height, 7)
        self.assertAlmostEqual(slope, 0.25)
        self.assertEqual(sure.expanded(), 0)
        self.assertFalse(sure.too_short)


if __name__ == "__main__":
    unittest.main()
