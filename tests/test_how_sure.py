import unittest

import numpy as np

from kestrelmist.align.how_sure import how_sure
from kestrelmist.core.displacement import DisplacementField
from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.space import Space
from kestrelmist.core.transform import Transform
from tests.test_align import ONE, OTHER, SPACE, picture
from tests.test_judge import MOVED


def noisy(values: np.ndarray, noise: float, seed: int) -> np.ndarray:
    return (values + np.random.default_rng(seed).normal(0, noise, values.shape)).astype(np.float32)


class HowSureTest(unittest.TestCase):
    def pair(self, noise: float) -> tuple[Image, Image]:
        onto = Image(np.asfortranarray(noisy(picture(ONE), noise, 1).T), SPACE, "One")
        return Image(np.asfortranarray(noisy(picture(OTHER), noise, 2).T), SPACE.moved(MOVED), "Other"), onto

    def test_noise_makes_it_less_sure_and_the_limit_holds_what_is_off(self):
        limits = []
        for noise in (2.0, 60.0):
            image, onto = self.pair(noise)
            found = how_sure(image, onto, Transform(MOVED, name="T"))
            rows = {row[0]: row[1] for row in found.report.rows}
            limits.append(rows["may be off by, mean"])
            self.assertEqual(found.map.unit, "mm")
            self.assertLessEqual(max(found.map.space.shape), 60)
            np.testing.assert_allclose(found.map.space.centre, onto.space.centre, atol=1e-9)
            self.assertLess(rows["may be off by, mean"], float(np.max(found.map.data)))
            self.assertGreaterEqual(float(np.min(found.map.data)), 0.25 * min(SPACE.spacing))  # a quarter of a voxel
        self.assertGreater(limits[1], 1.3 * limits[0])

    def test_a_wrong_one_stands_out(self):
        image, onto = self.pair(2.0)
        wrong = MOVED.copy()
        wrong[0, 3] += 3.0
        right, off = (
            {row[0]: row[1] for row in how_sure(image, onto, Transform(matrix, name="T")).report.rows}
            for matrix in (MOVED, wrong)
        )
        self.assertLess(right["differs by, there and back"], 0.5)
        self.assertGreater(off["differs by, there and back"], 2.5)
        self.assertGreater(off["may be off by, mean"], 2.5)

    def test_wrong_input(self):
        image, onto = self.pair(2.0)
        field = DisplacementField(np.zeros((4, 4, 4, 3), np.float32), Space((4, 4, 4), np.eye(4)), name="F")
        with self.assertRaisesRegex(Trouble, "“F” is a displacement field, and only affine"):
            how_sure(image, onto, field)
