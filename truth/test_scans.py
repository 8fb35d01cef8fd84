"""Made-up scans: what their noise is like."""

import unittest

import numpy as np

from kestrelmist.core.space import Space
from kestrelmist.demo.animal import make_animal
from kestrelmist.demo.scans import scan_ct


class NoiseTest(unittest.TestCase):
    def test_ct_noise_has_no_offset_and_is_not_white(self):
        animal = make_animal("noise", 11)
        affine = np.diag([0.05, 0.05, 0.05, 1.0])
        affine[:3, 3] = (-1.6, -4.0, 1.0)  # within the brain, far from the ends of the scale
        space = Space((64, 64, 32), affine)
        noise = scan_ct(animal, space, 38.0).astype(float) - scan_ct(animal, space, 0.0)
        self.assertAlmostEqual(noise.std(), 38.0, delta=1.5)
        self.assertLess(abs(noise.mean()), 1.0)
        power = (np.abs(np.fft.fft2(noise, axes=(0, 1))) ** 2).mean(2)
        radius = np.hypot(np.fft.fftfreq(64)[:, None], np.fft.fftfreq(64)[None])
        low, middle = power[(radius > 0.01) & (radius < 0.05)].mean(), power[(radius > 0.15) & (radius < 0.25)].mean()
        self.assertLess(low, 0.4 * middle)  # a ramp filter: little noise in coarse structures
        between = (noise[:, :, 1:] * noise[:, :, :-1]).mean() / noise.var()
        self.assertLess(abs(between), 0.03)  # slices are independent


if __name__ == "__main__":
    unittest.main()
