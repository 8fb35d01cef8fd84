"""Weights of places: as masks where they are 0 and 1, and the slope of every cost with them."""

import unittest
from unittest import mock

import numpy as np
from scipy import ndimage

from kestrelmist.align import sides
from kestrelmist.align.align_images import align_images
from kestrelmist.align.similar import SIMILARITIES, Seen
from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap
from kestrelmist.core.space import Space

SPACE = Space((60, 40, 36), np.eye(4))
LEFT, RIGHT = (16.0, 20.0, 18.0), (44.0, 20.0, 18.0)


def bodies(left, right, name: str) -> Image:
    """Two lopsided bodies, each at a place of its own."""
    at = np.indices(SPACE.shape).reshape(3, -1).T.astype(float)
    values = np.zeros(len(at))
    for middle in (left, right):
        u = at - middle
        values += 100 * np.exp(-((u / (5, 7, 6)) ** 2).sum(1)) + 60 * np.exp(-(((u - (2, 3, -2)) / 3) ** 2).sum(1))
    values += np.random.default_rng(len(name)).normal(0, 2, values.shape)
    return Image(values.reshape(SPACE.shape).astype(np.float32), SPACE, name)


def share(low: float, high: float) -> Image:
    """Weights that go from one number to another across the middle."""
    x = np.arange(SPACE.shape[0])[:, None, None] + np.zeros(SPACE.shape)
    return Image(np.where(x < 30, low, high).astype(np.float32), SPACE, "Weights")


def speck() -> Image:
    """Weights of one voxel."""
    data = np.zeros(SPACE.shape, np.float32)
    data[30, 20, 18] = 1
    return Image(data, SPACE, "Weights")


class WeightsTest(unittest.TestCase):
    ONTO = bodies(LEFT, RIGHT, "Onto")
    MOVED = bodies((19.0, 20, 18), (42.0, 20, 18), "Moved")  # by 3 and by -2

    def test_what_weighs_more_decides(self):
        for measure in SIMILARITIES:
            given = {"freedom": "3", "similarity": measure.name}
            for which, weights, wanted in (
                ("weights", share(1, 0), 3.0),
                ("weights", share(0.05, 5), -2.0),
                ("moving_weights", share(1.0, 0.01), 3.0),
            ):
                with self.subTest(measure.name, which=which, wanted=wanted):
                    found = align_images(self.MOVED, self.ONTO, **given, **{which: weights}).transform
                    # what looks at neighbours sees noise, too
                    self.assertAlmostEqual(found.matrix[0, 3], wanted, delta=0.6 if measure.whole else 0.35)

    def test_nought_and_one_are_a_mask(self):
        mask = LabelMap(SPACE, (np.asarray(share(1, 0).data) > 0).astype(np.uint16))
        given = {"freedom": "6", "similarity": "squares"}
        by_mask = align_images(self.MOVED, self.ONTO, mask=mask, **given).transform
        by_weights = align_images(self.MOVED, self.ONTO, weights=share(1, 0), **given).transform
        np.testing.assert_array_equal(by_weights.matrix, by_mask.matrix)

    def test_slopes_against_differences(self):
        random = np.random.default_rng(2)
        shape = (9, 10, 11)
        one, other = (ndimage.gaussian_filter(random.normal(size=shape), 1).astype(np.float32).ravel() for _ in "ab")
        other = 0.6 * one + other
        weights = random.uniform(0.1, 1, one.size).astype(np.float32)
        weights[::7] = 0
        way = random.normal(size=one.size).astype(np.float32) * np.float32(1e-3)
        for measure in SIMILARITIES:
            made = measure.made(Seen(one, (float(other.min()) - 0.1, float(other.max()) + 0.1), shape))
            _, slope = made(other, weights)
            grown = (made(other + way, weights)[0] - made(other - way, weights)[0]) / 2
            with self.subTest(measure.name):
                self.assertAlmostEqual(grown / float(np.dot(slope.astype(float), way)), 1.0, delta=0.03)

    def test_a_warp_follows_what_weighs(self):
        """The right body lies elsewhere in the image that moves, and does not count."""
        other = bodies((16.0, 20, 18), (47.0, 22, 18), "Other")
        given = {"freedom": "warp", "similarity": "squares", "warp_spacing": 3.0}
        places = np.array(LEFT) + np.random.default_rng(1).uniform(-4, 4, (40, 3))
        for weights in (share(1, 0), share(1, 0.001)):
            way = align_images(other, self.ONTO, **given, weights=weights, moving_weights=weights).transform
            self.assertLess(np.linalg.norm(way.to(places) - places, axis=1).mean(), 0.3)
            self.assertLess(np.linalg.norm(way.to(np.array([RIGHT])) - RIGHT), 1.5)  # it was not drawn over

    def test_of_a_large_picture_they_are_thinned_with_it(self):
        """Of which a coarser level is compared; half of it moved by 2 voxels, the other half by -3."""
        fine, coarse = np.diag([1.0, 1, 1, 1]), np.diag([2.0, 2, 1, 1])
        coarse[:2, 3] = 0.5
        values = ndimage.gaussian_filter(np.random.default_rng(3).normal(size=(200, 160)), 4).astype(np.float32) * 100

        def picture(values, name):
            made = Image(values[..., None], Space((200, 160, 1), fine), name)
            blocks = values.reshape(100, 2, 80, 2).mean((1, 3)).astype(np.float32)
            made.levels = [Image(blocks[..., None], Space((100, 80, 1), coarse), name)]
            return made

        moved = np.concatenate([np.roll(values, 2, 0)[:100], np.roll(values, -3, 0)[100:]])
        low = np.where(np.arange(200) < 95, 1.0, 0.001).astype(np.float32)
        given = {"freedom": "2", "similarity": "squares"}
        for along, wanted in ((low, 2.0), (1.001 - low, -3.0)):
            weights = Image(np.repeat(along[:, None, None], 160, 1), Space((200, 160, 1), fine), "Weights")
            with self.subTest(wanted=wanted), mock.patch.object(sides, "MOST_PIXELS", 10_000):
                found = align_images(picture(moved, "m"), picture(values, "o"), **given, weights=weights).transform
                self.assertAlmostEqual(found.matrix[0, 3], wanted, delta=0.3)

    def test_wrong_input(self):
        flat = Image(np.ones((4, 4, 4), np.float32), Space((4, 4, 4), np.eye(4)), "W")
        for words, weights in (
            ("lie on another grid", flat),
            ("are to be 0 or more", share(-1, 1)),
            ("are to be 0 or more", share(0, 0)),
            ("are to be 0 or more", share(1, np.inf)),
            ("Too little of “Onto” counts", speck()),
        ):
            with self.subTest(words), self.assertRaisesRegex(Trouble, words):
                align_images(self.MOVED, self.ONTO, weights=weights)
