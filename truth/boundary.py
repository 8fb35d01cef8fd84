"""Functional views of part of the head, laid on the anatomy along white matter, in animals whose poses are known."""

from __future__ import annotations

import numpy as np

from kestrelmist.align.align_boundary import align_boundary
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap
from kestrelmist.demo.animal import make_animal
from kestrelmist.demo.functional_run import DIRECTION, SPACING, FunctionalRun
from kestrelmist.demo.partial_views import partial_space, pose_of
from kestrelmist.demo.scans import head_mr_space, scan_mr
from kestrelmist.demo.truth import true_labels
from kestrelmist.formats.sidecar import with_facts
from kestrelmist.prepare.tissue.tissues import split_tissues

from .row import Row

ANIMALS = 20
HALF = 0.3
"""Voxels of the series that a place may be off by."""


def rows(seed: int) -> list[Row]:
    plain, straight = zip(*(_both(number) for number in range(seed, seed + ANIMALS)))
    against = f"the pose of {ANIMALS} animals, tissues split by the program"
    what, against = "partial view along white matter", f"the pose of {ANIMALS} animals, tissues split by the program"
    return [
        Row(f"{what}: within 0.3 voxel", float(np.mean(np.less(straight, HALF))), 1.0, against=against),
        Row(f"{what}, mean error", float(np.mean(straight)), at_most=HALF, unit="voxels", against=against),
        Row(f"{what}, without the field map", float(np.mean(plain)), at_most=0.5, unit="voxels", against=against),
    ]


def _both(seed: int) -> tuple[float, float]:
    """Mean distance of places of the brain from where they are, in voxels: without the field map, and with it."""
    animal = make_animal(f"HM-{seed}", seed)
    space = head_mr_space()
    onto = Image(scan_mr(animal, space), space, "T1", modality="MR", subject=animal.name)
    inside = np.minimum(true_labels(animal, ["Brain"], space), 1).astype(np.uint8)
    brain = LabelMap(space, inside, name="Brain")
    white = split_tissues(onto, brain).white
    part, pose = partial_space(seed), pose_of(seed, 0)
    run = FunctionalRun(animal, 1, part)
    image = Image(run.reference(pose), part, "EP", modality="MR", subject=animal.name)
    image.facts = with_facts(image, EffectiveEchoSpacing=SPACING, PhaseEncodingDirection=DIRECTION)
    field = Image(run.true_field(space).astype(np.float32), space, "Field", unit="Hz")
    places = space.to_world(np.argwhere(brain.kji.T)[::97])
    goals = places @ pose[:3, :3].T + pose[:3, 3]
    at = part.to_voxel(goals)
    seen = ((at > 0) & (at < np.array(part.shape) - 1)).all(1)
    size = float(np.cbrt(part.voxel_volume))
    found = [align_boundary(image, onto, white, given).transform for given in (None, field)]
    plain, straight = (float(np.linalg.norm(f.to(places[seen]) - goals[seen], axis=1).mean()) / size for f in found)
    return plain, straight
