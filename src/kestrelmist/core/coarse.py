"""A thing on a coarser grid, for a first look at what becomes of it."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from .image import Image
from .space import Space
from .values import packed_colours

Steps = tuple[int, int, int]
LEAST = 24
"""Voxels along an axis below which it is not made coarser."""


def steps_for(shape: tuple[int, ...], most: int) -> Steps:
    """How many voxels along each axis become one, so that at most about `most` are left. Short axes, such as that of a
    slab, keep what they have."""
    steps = [1, 1, 1]
    while np.prod([n // s for n, s in zip(shape, steps)], dtype=float) > most:
        left = [n // s for n, s in zip(shape, steps)]
        longest = max(left)
        if longest <= LEAST:
            break
        steps = [s + 1 if n > longest / 2 and n > LEAST else s for n, s in zip(left, steps)]
    return steps[0], steps[1], steps[2]


def coarse_space(space: Space, steps: Steps) -> Space:
    """The grid of blocks of so many voxels; what is left over at the far ends is dropped."""
    affine = space.affine.copy()
    affine[:3, 3] = space.to_world((np.array(steps) - 1) / 2)
    affine[:3, :3] *= steps
    shape = tuple(n // s for n, s in zip(space.shape, steps))
    return replace(space, shape=shape, affine=affine)  # type: ignore[arg-type]


def coarse_image(image: Image, steps: Steps) -> Image:
    """Means of blocks of voxels, over those that have a value; of colours, those of red, green and blue. Volumes of a
    series are read when they are looked at."""
    if steps == (1, 1, 1):
        return image
    space = coarse_space(image.space, steps)
    if image.colour:
        return image.each_volume(lambda packed: _mean_colours(packed, steps), space=space)
    return image.each_volume(lambda values: means_of_blocks(values, steps), space=space)


def _mean_colours(packed: np.ndarray, steps: Steps) -> np.ndarray:
    channels = [means_of_blocks((packed >> np.uint32(shift)) & np.uint32(255), steps) for shift in (16, 8, 0)]
    return packed_colours(np.rint(np.stack(channels, -1)).astype(np.uint8))


def middle_of_blocks(values: np.ndarray, shape: tuple[int, ...], steps: Steps) -> np.ndarray:
    """The value in the middle of each of so many blocks along each axis; nothing is copied."""
    return values[tuple(slice(s // 2, n * s, s) for n, s in zip(shape, steps))]


def means_of_blocks(values: np.ndarray, steps: Steps) -> np.ndarray:
    """Means of blocks of so many values along each axis, over those that are there; float32, NaN where none is."""
    kept = tuple(slice(n // s * s) for n, s in zip(values.shape, steps))
    blocks = values[kept].astype(np.float32)
    there = np.isfinite(blocks)
    count = None if there.all() else there
    if count is not None:
        blocks[~there] = 0
    for axis, step in enumerate(steps):
        if step > 1:
            blocks = _summed(blocks, axis, step)
            count = None if count is None else _summed(count, axis, step)
    if count is None:
        return blocks / np.float32(np.prod(steps))
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(count > 0, blocks / count, np.nan).astype(np.float32)


def _summed(values: np.ndarray, axis: int, step: int) -> np.ndarray:
    """Sums of so many neighbours along an axis, float32."""
    every: list[slice] = [slice(None)] * values.ndim
    every[axis] = slice(0, None, step)
    total = values[tuple(every)].astype(np.float32)
    for first in range(1, step):
        every[axis] = slice(first, None, step)
        total += values[tuple(every)]
    return total
