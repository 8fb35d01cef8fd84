"""The brain out of whole animals whose brain is known, in MR, series and CT, and the field of a coil."""

from __future__ import annotations

import numpy as np
from scipy import ndimage

from kestrelmist.core.axis import Axis
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap
from kestrelmist.core.space import Space
from kestrelmist.demo.animal import Animal, make_animal
from kestrelmist.demo.functional_run import odour_space
from kestrelmist.demo.scans import coil, head_ct_space, head_mr_space, scan_ct, scan_mr
from kestrelmist.demo.truth import true_labels
from kestrelmist.prepare.intensity.evenness import even_brightness
from kestrelmist.prepare.tissue.brain import take_out_brain

from .row import Row

ANIMALS = 3
TRUE = "the animal's own brain (overlap)"


def rows(seed: int) -> list[Row]:
    found = []
    for animal in (make_animal(f"HM-{n}", n) for n in range(seed, seed + ANIMALS)):
        t1, ct = head_mr_space(), head_ct_space(160, 150)
        of_t1 = overlap(animal, Image(scan_mr(animal, t1), t1, "T1"))
        of_run = overlap(animal, _run(animal, seed))
        of_ct = overlap(animal, Image(scan_ct(animal, ct), ct, "CT", unit="HU"))
        found += [
            Row(f"brain of {animal.name} in a T1", of_t1, 0.945, against=TRUE),
            Row(f"brain of {animal.name} in a functional series", of_run, 0.92, against=TRUE),
            Row(f"what the skull of {animal.name} holds in a CT", of_ct, 0.92, against=TRUE),
            Row(f"unevenness left of a T1 of {animal.name}", _left_of_the_coil(animal), at_most=0.4,
                against="that of the coil"),
        ]  # fmt: skip
    return found


def overlap(animal: Animal, image: Image) -> float:
    """Dice of the brain that is taken out; the cord behind it is left out of the count."""
    labels = LabelMap(image.space)
    take_out_brain(image, labels).apply(labels)
    y = image.space.to_world(np.indices(image.space.shape).reshape(3, -1).T)[:, 1].reshape(image.space.shape)
    found, true = (labels.data > 0) & (y > -10.5), (true_labels(animal, ["Brain"], image.space) > 0) & (y > -10.5)
    return 2 * np.count_nonzero(found & true) / (np.count_nonzero(found) + np.count_nonzero(true))


def _run(animal: Animal, seed: int) -> Image:
    space, rng = odour_space(), np.random.default_rng(seed)
    base = ndimage.gaussian_filter(scan_mr(animal, space, 0.0).astype(np.float32), 0.5)
    noise = rng.normal(0, 30, (9, 2, *space.shape))
    volumes = np.stack([np.hypot(base + one, other) for one, other in noise], -1)
    return Image(np.asfortranarray(volumes, np.float32), space, "Run", axes=(Axis.even("time", 9, 2.0, "s"),))


def _left_of_the_coil(animal: Animal) -> float:
    fine = head_mr_space()
    i, j, k = (n // 2 for n in fine.shape)
    coarse = Space((i, j, k), fine.affine @ np.diag([2, 2, 2, 1.0]))
    image = Image(scan_mr(animal, coarse), coarse, "T1")
    head, true = image.data > 150, coil(coarse).T
    found = even_brightness(image).field.data
    before, after = (float(v[head].std() / v[head].mean()) for v in (true, true / found))
    return after / before
