import unittest

import numpy as np

from kestrelmist.align.how_sure import _freedom_of, how_sure
from kestrelmist.align.lay import hand_matrix
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

    def test_what_an_alignment_was_free_to_do(self):
        image, onto = self.pair(2.0)
        flat = Image(np.zeros((9, 9, 1), np.float32), Space((9, 9, 1), np.eye(4)), "Flat")
        sheared = np.eye(4)
        sheared[0, 1] = 0.1
        for turn, scale, one, wanted in ((8.0, 1.0, onto, "6"), (8.0, 1.2, onto, "7"), (8.0, 1.0, flat, "3")):
            matrix = hand_matrix((1, 2, 0), (0, 0, turn), scale, (0, 0, 0))
            self.assertEqual(_freedom_of(Transform(matrix), one)[0], wanted)
        matrix = hand_matrix((0, 0, 0), (0, 0, 8), 1.3, (0, 0, 0))
        matrix[2, 2] = 1.0  # of a picture, nothing leads out of the plane
        self.assertEqual(_freedom_of(Transform(matrix), flat)[0], "4")
        self.assertEqual(
            (_freedom_of(Transform(sheared), onto)[0], _freedom_of(Transform(sheared), flat)[0]), ("12", "6")
        )

    def test_wrong_input(self):
        image, onto = self.pair(2.0)
        field = DisplacementField(np.zeros((4, 4, 4, 3), np.float32), Space((4, 4, 4), np.eye(4)), name="F")
        with self.assertRaisesRegex(Trouble, "“F” is a displacement field, and only affine"):
            how_sure(image, onto, field)
