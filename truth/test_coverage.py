"""How often stated uncertainties hold what is true, over a thousand made cases of every kind of noise: 92 to 98 of a
hundred is right."""

import unittest

import numpy as np

from kestrelmist.demo.enamel import enamel
from kestrelmist.measure.plateaus import step_in
from kestrelmist.measure.trace_noise import of_difference
from tests.test_trace_noise import together, turned

CASES = 1000
LEAST, MOST = 0.92, 0.985


class CursorsTest(unittest.TestCase):
    def held(self, make, width: int, long: int = 160) -> float:
        inside = 0
        for seed in range(CASES):
            noise = make(np.random.default_rng([width, seed]), (long, width))
            lines = noise + np.linspace(0, 5, width)
            lines[long // 2 :] += 40
            first, second = long // 4, 3 * long // 4
            sure = of_difference(lines, first, second)
            inside += abs(lines[second].mean() - lines[first].mean() - 40) <= sure.expanded()
        return inside / CASES

    def test_of_every_noise(self):
        for name, make, widths in (
            ("white", lambda rng, shape: together(rng, shape, 0), (3, 31)),
            ("over one and a half points", lambda rng, shape: together(rng, shape, 1.5), (5, 31)),
            ("over two points", lambda rng, shape: together(rng, shape, 2), (5, 31)),
            ("turned lines", turned, (5, 31)),
        ):
            for width in widths:
                held = self.held(make, width)
                print(f"cursors, {name}, {width} lines: {100 * held:.1f} of 100")
                self.assertTrue(LEAST <= held <= MOST, (name, width, held))


class StepsTest(unittest.TestCase):
    def held(self, reach: float, long: int, scale: float) -> float:
        """Of steps that are not called too short to tell."""
        inside = told = 0
        for seed in range(CASES):
            along = np.arange(float(long))
            noise = together(np.random.default_rng([long, seed]), (long,), reach)
            step = step_in(along, scale * (50 * (along > 0.55 * long) + noise)[:, None], "made up")
            if not step.too_short:
                told += 1
                inside += abs(step.height - 50 * scale) <= step.expanded()
        return inside / told

    def test_of_every_noise_and_scale(self):
        kinds = ((0, 60, 1.0), (0, 60, 1e-6), (2, 120, 1.0), (2, 120, 1e6), (8, 240, 1.0), (8, 400, 1.0))
        for reach, long, scale in kinds:
            held = self.held(reach, long, scale)
            print(f"steps, noise over {reach} of {long} points, scale {scale:g}: {100 * held:.1f} of 100")
            self.assertTrue(LEAST <= held <= MOST, (reach, long, held))

    def test_maps_of_enamel(self):
        """Bands of one map lie on the same prisms and jumps of lines, so many maps stand beside each other."""
        inside = tried = 0
        for seed in range(120):
            made = enamel(seed, 256, scale=0.0)
            for start in (20, 100, 180):
                strip = np.where(made.dust, np.nan, made.heights)[start : start + 40].T.astype(float)
                step = step_in(np.arange(256) * 0.1, strip, "enamel")
                tried += 1
                inside += abs(abs(step.height) - made.depth) <= step.expanded()
        print(f"steps of enamel: {100 * inside / tried:.1f} of 100")
        self.assertGreaterEqual(inside / tried, 0.9)


if __name__ == "__main__":
    unittest.main()
