"""Mappings worked out as displacement fields: for files that hold no others, and to look at the way back of one."""

from __future__ import annotations

import numpy as np

from .displacement import DisplacementField
from .errors import Trouble
from .mapping import Mapping
from .progress import Progress, silent
from .space import Space
from .transform import Transform
from .turned_round import TurnedRound

KNOWN = 0.5
"""Share of a grid's voxels of which a mapping must say something."""


def field_over(mapping: Mapping, space: Space, progress: Progress | None = None) -> tuple[DisplacementField, int]:
    """A field that does what a mapping does at every voxel of a grid, and how many voxels had to be filled in: where
    the mapping says nothing, the shift of the nearest other voxel stands.

    Raises Trouble when it says nothing of half of the grid, Cancelled.
    """
    from scipy import ndimage

    progress = progress or silent()
    shifts = np.empty((*space.shape, 3), np.float32)
    i, j = np.meshgrid(np.arange(space.shape[0]), np.arange(space.shape[1]), indexing="ij")
    for k in progress.over(range(space.shape[2]), what="Working out the field"):
        here = space.to_world(np.stack([i, j, np.full_like(i, k)], axis=-1).reshape(-1, 3))
        shifts[:, :, k] = (mapping.to(here) - here).reshape(*i.shape, 3)
    known = np.isfinite(shifts).all(axis=-1)
    if known.mean() < KNOWN:
        raise Trouble(f"“{mapping.name}” says nothing of most of this grid", "choose a grid where it leads")
    if not known.all():
        nearest = ndimage.distance_transform_edt(
            ~known, sampling=space.spacing, return_distances=False, return_indices=True
        )
        shifts = shifts[tuple(nearest)]
    made = DisplacementField(shifts, space, mapping.source, mapping.target, mapping.name, mapping.subject)
    return made, int((~known).sum())


def own_grid(mapping: Mapping) -> Space | None:
    """The grid on which a mapping can be worked out without losing anything of what it says; None when it has none.

    That of a field is its own; of the way back of one, a grid of the same voxels over all that the field reaches; of a
    chain, that of the first step that bends, where the steps before it have it.
    """
    if isinstance(mapping, DisplacementField):
        return mapping.space
    if isinstance(mapping, TurnedRound):
        there = own_grid(mapping.of)
        return None if there is None else _reached(mapping.of, there)
    before = np.eye(4)
    for step in mapping.parts:
        if step is mapping:
            break
        if not isinstance(step, Transform):
            grid = own_grid(step)
            return None if grid is None else grid.moved(np.linalg.inv(before))
        before = step.matrix @ before
    bend = mapping.bend()
    return None if bend is None else bend.space.moved(np.linalg.inv(bend.before))


def _reached(of: Mapping, space: Space) -> Space:
    """A grid of the same voxels over all places that a mapping leads those of a grid to."""
    steps = [max(1, n // 24) for n in space.shape]
    axes = [np.unique(np.r_[np.arange(0, n, s), n - 1]) for n, s in zip(space.shape, steps)]
    index = np.stack(np.meshgrid(*axes, indexing="ij"), -1).reshape(-1, 3)
    there = space.to_voxel(of.to(space.to_world(index)))
    there = there[np.isfinite(there).all(1)]
    low, high = np.floor(there.min(0)), np.ceil(there.max(0))
    low, high = (np.where(np.array(space.shape) == 1, 0, v) for v in (low, high))
    shape = tuple(int(n) for n in high - low + 1)
    affine = space.affine.copy()
    affine[:3, 3] = space.to_world(low)
    return Space(shape, affine, space.unit, space.world)  # type: ignore[arg-type]


def as_field(mapping: Mapping) -> Mapping:
    """A mapping as a displacement field on its own grid, where it has one; else as it is."""
    if isinstance(mapping, (Transform, DisplacementField)):
        return mapping
    grid = own_grid(mapping)
    return mapping if grid is None else field_over(mapping, grid)[0]
