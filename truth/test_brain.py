"""The brain out of whole animals whose brain is known, in MR, series and CT, and the field of a coil."""

import unittest

import numpy as np
from scipy import ndimage

from kestrelmist.core.axis import Axis
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap
from kestrelmist.core.space import Space
from kestrelmist.demo.animal import make_animal
from kestrelmist.demo.functional_run import odour_space
from kestrelmist.demo.scans import coil, head_ct_space, head_mr_space, scan_ct, scan_mr
from kestrelmist.demo.truth import true_labels
from kestrelmist.prepare.brain import take_out_brain
from kestrelmist.prepare.evenness import even_brightness

SEEDS = (31, 32, 33)
"""Animals that the demo does not use."""


def overlap(animal, image: Image) -> float:
    """Dice of the brain that is taken out; the cord behind it is left out of the count."""
    labels = LabelMap(image.space)
    take_out_brain(image, labels).apply(labels)
    y = image.space.to_world(np.indices(image.space.shape).reshape(3, -1).T)[:, 1].reshape(image.space.shape)
    found, true = (labels.data > 0) & (y > -10.5), (true_labels(animal, ["Brain"], image.space) > 0) & (y > -10.5)
    return 2 * np.count_nonzero(found & true) / (np.count_nonzero(found) + np.count_nonzero(true))


class AnimalsTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.animals = [make_animal(f"HM-{seed}", seed) for seed in SEEDS]

    def test_of_a_t1(self):
        for animal in self.animals:
            space = head_mr_space()
            self.assertGreater(overlap(animal, Image(scan_mr(animal, space), space, "T1")), 0.945, animal.name)

    def test_of_a_functional_series(self):
        space, rng = odour_space(), np.random.default_rng(31)
        for animal in self.animals:
            base = ndimage.gaussian_filter(scan_mr(animal, space, 0.0).astype(np.float32), 0.5)
            noise = rng.normal(0, 30, (9, 2, *space.shape))
            volumes = np.stack([np.hypot(base + one, other) for one, other in noise], -1)
            axes = (Axis.even("time", 9, 2.0, "s"),)
            series = Image(np.asfortranarray(volumes, np.float32), space, "Run", axes=axes)
            self.assertGreater(overlap(animal, series), 0.92, animal.name)

    def test_what_the_skull_holds_in_a_ct(self):
        for animal in self.animals:
            space = head_ct_space(160, 150)
            image = Image(scan_ct(animal, space), space, "CT", unit="HU")
            self.assertGreater(overlap(animal, image), 0.92, animal.name)

    def test_the_brightness_of_the_coil_is_evened(self):
        fine = head_mr_space()
        coarse = Space(tuple(n // 2 for n in fine.shape), fine.affine @ np.diag([2, 2, 2, 1.0]))
        for animal in self.animals:
            image = Image(scan_mr(animal, coarse), coarse, "T1")
            head, true = image.data > 150, coil(coarse).T
            found = even_brightness(image).field.data
            before, after = (float(v[head].std() / v[head].mean()) for v in (true, true / found))
            self.assertLess(after, 0.4 * before, animal.name)


if __name__ == "__main__":
    unittest.main()
