"""Turns of a phase put back, against phases that are known."""

import unittest

import numpy as np
from skimage.restoration import unwrap_phase

from kestrelmist.core.progress import Progress
from kestrelmist.prepare.fields.phase import unwrapped


class UnwrapTest(unittest.TestCase):
    def test_turns_are_put_back_in_noise_and_twice_the_same(self):
        k, j, i = np.indices((20, 40, 44)).astype(np.float32)
        far = np.sqrt((k - 10) ** 2 + ((j - 20) / 2) ** 2 + ((i - 22) / 2) ** 2)
        true, inside = 14 * np.exp(-((far / 6) ** 2)) + 0.3 * i, far < 9
        inside[:, 18:22, 22:] = False  # a cleft: the turns go round it
        for noise, most in ((0.0, 0.0), (0.4, 0.0), (0.8, 0.01)):
            values = true + noise * np.random.default_rng(3).normal(size=true.shape)
            wrapped = np.angle(np.exp(1j * values)).astype(np.float32)
            found = unwrapped(wrapped, inside, Progress())
            apart = (found - values)[inside] / (2 * np.pi)
            wrong = np.abs(apart - np.round(np.median(apart))) > 0.01
            self.assertLessEqual(wrong.mean(), most, noise)
            for _ in range(5):
                np.testing.assert_array_equal(unwrapped(wrapped, inside, Progress()), found)
            np.testing.assert_array_equal(found[~inside], 0)
        library = unwrap_phase(np.angle(np.exp(1j * true)))  # one without a mask, of an independent library
        whole = unwrapped(np.angle(np.exp(1j * true)).astype(np.float32), np.ones(true.shape, bool), Progress())
        turns = (whole - library) / (2 * np.pi)
        np.testing.assert_allclose(turns, np.round(turns[0, 0, 0]), atol=1e-4)

    def test_a_line_and_a_voxel_are_unwrapped_too(self):
        line = np.linspace(-4.5, 4.5, 30, dtype=np.float32)[None, None]
        found = unwrapped(np.angle(np.exp(1j * line)).astype(np.float32), np.ones(line.shape, bool), Progress())
        np.testing.assert_allclose(found, line, atol=1e-5)
        one = np.full((1, 1, 1), 2.0, np.float32)
        np.testing.assert_array_equal(unwrapped(one, np.ones(one.shape, bool), Progress()), one)

    def test_pieces_apart_keep_their_turn(self):
        angle = np.full((4, 30, 30), 0.4, np.float32)
        inside = np.zeros(angle.shape, bool)
        inside[:, :, :12], inside[:, 5:9, 20:25] = True, True
        wrapped = np.angle(np.exp(1j * (angle + 2.9)))
        found = unwrapped(wrapped.astype(np.float32), inside, Progress())
        np.testing.assert_allclose(found[inside], 3.3 - 2 * np.pi, atol=1e-5)
