"""Regions of the dormouse's head by name, as a label map of one animal: what the atlas of its kind is made of."""

from __future__ import annotations

import numpy as np
from scipy import ndimage

from ..core.space import Space
from .anatomy import BRAIN, CORD, EYE, HIPPOCAMPUS, JAW, LENS, NUCLEI, SKULL, TEETH, VENTRICLE, WHITE
from .animal import Animal, bends_of
from .lattice import sampled

TREE: dict[str, tuple[str, ...]] = {
    "Cortex": ("Frontal cortex", "Parietal cortex", "Temporal cortex", "Occipital cortex", "Olfactory bulb"),
    "Inner brain": ("Hippocampus", "Deep nuclei", "Core", "White matter", "Ventricle"),
    "Hindbrain": ("Cerebellum", "Brain stem", "Spinal cord"),
    "Head": ("Eye", "Lens", "Skull", "Lower jaw", "Teeth"),
}
"""Names by the group they belong to. Each but those of SINGLE is there on both sides."""
SINGLE = ("Brain stem", "Spinal cord")


def names() -> list[tuple[int, str, str, str]]:
    """Number, name, group and side ("left", "right", "") of every region."""
    found: list[tuple[int, str, str, str]] = []
    for group, members in TREE.items():
        for member in members:
            for side in ("",) if member in SINGLE else ("left", "right"):
                name = f"{member}, {side}" if side else member
                found.append((len(found) + 1, name, group, side))
    return found


def regions_of(animal: Animal, space: Space) -> np.ndarray:
    """Numbers of the regions at the voxels of a grid, uint8 [k, j, i]."""
    shape = space.shape[::-1]
    inside = {n: sampled(animal.fields[n], *animal.frame(space.affine), shape) <= 0 for n in range(len(animal.fields))}
    x, y, z = _of_the_kind(animal, space)
    brain, sheet = inside[BRAIN], sampled(animal.fields[BRAIN], *animal.frame(space.affine), shape)
    kinds = ["", *(member for members in TREE.values() for member in members)]
    found = np.zeros(shape, np.uint8)  # numbers of the kinds
    found[brain] = kinds.index("Core")
    shell = brain & (sheet > -1.15)  # outside the sheet of white matter that lies under the cortex
    for name, part in (
        ("Frontal cortex", y > -0.2),
        ("Parietal cortex", (y <= -0.2) & (y > -3.6) & (z > 2.2)),
        ("Occipital cortex", (y <= -3.6) & (z > 2.2)),
        ("Temporal cortex", (y <= -0.2) & (z <= 2.2)),
    ):
        found[shell & part & (z > -0.8)] = kinds.index(name)
    found[brain & (y > 3.3)] = kinds.index("Olfactory bulb")
    stem = brain & (y < -1.0) & (np.abs(x) < 2.1) & (z < -0.5)
    behind = brain & (y < -6.4)
    found[behind] = kinds.index("Cerebellum")
    found[stem] = kinds.index("Brain stem")
    for name, which in (("Deep nuclei", NUCLEI), ("Hippocampus", HIPPOCAMPUS)):
        found[inside[which] & brain & ~behind & ~stem] = kinds.index(name)
    found[inside[WHITE] & brain & ~behind & ~stem] = kinds.index("White matter")
    found[inside[VENTRICLE] & brain] = kinds.index("Ventricle")
    found[inside[CORD] & ~brain] = kinds.index("Spinal cord")
    for name, which in (("Skull", SKULL), ("Lower jaw", JAW), ("Teeth", TEETH), ("Eye", EYE), ("Lens", LENS)):
        found[inside[which] & ~brain] = kinds.index(name)
    numbers = np.zeros(shape, np.uint8)
    for number, name, _, side in names():
        of_side = (x < 0) if side == "left" else (x >= 0) if side == "right" else np.True_
        numbers[(found == kinds.index(name.split(",")[0])) & of_side] = number
    return numbers


def _of_the_kind(animal: Animal, space: Space) -> np.ndarray:
    """Places of the voxels of a grid in an animal without a shape of its own, mm, (3, k, j, i)."""
    bends, scale = bends_of(animal)
    k, j, i = np.indices(space.shape[::-1])
    places = space.to_world(np.stack((i, j, k), -1).reshape(-1, 3)).reshape(*i.shape, 3)
    at = np.moveaxis(places + 16.5, -1, 0)[::-1]
    away = np.stack([ndimage.map_coordinates(bends[n], at, order=1, mode="nearest") for n in range(3)], -1)
    return np.moveaxis((places + away) / scale, -1, 0)
