"""Thick slices of a mask brought to even steps by the distances to it."""

from __future__ import annotations

import numpy as np

THICK = 1.5
"""From so many times the finest step on, more slices are put between."""
MOST, VOXELS = 12, 300_000_000
"""Times that a step is divided at most, and voxels that may come of it."""


def finer(mask: np.ndarray, steps: np.ndarray) -> tuple[np.ndarray, tuple[int, int, int]]:
    """A mask with steps as even as may be, and by how much each of its axes was divided.

    The voxel (k, j, i) of the finer mask lies at (k + 0.5) / times − 0.5 of the other one. Signed distances to the
    mask's surface are interpolated along thick axes.

    Parameters
    ----------
    mask : uint8 array [k, j, i]
        It is closed at its ends.
    steps : array (3,)
        Lengths of a voxel along k, j, i.
    """
    finest = steps.min()
    times = [min(MOST, round(step / finest)) if step > THICK * finest else 1 for step in steps]
    while max(times) > 1 and np.prod([n * t for n, t in zip(mask.shape, times)], dtype=float) > VOXELS:
        times[int(np.argmax(times))] -= 1
    if max(times) == 1:
        return mask, (1, 1, 1)
    from scipy import ndimage

    inside = np.pad(mask != 0, 1)
    depth = ndimage.distance_transform_edt(inside, steps) - ndimage.distance_transform_edt(~inside, steps)
    field = depth.astype(np.float32)
    for axis, n in enumerate(times):
        if n > 1:
            field = _divided(field, axis, n)
    part = tuple(slice(n, -n) for n in times)
    return (field[part] > 0).astype(np.uint8), (times[0], times[1], times[2])


def _divided(field: np.ndarray, axis: int, times: int) -> np.ndarray:
    count = field.shape[axis]
    at = np.clip((np.arange(count * times) + 0.5) / times - 0.5, 0, count - 1)
    low = np.minimum(at.astype(int), count - 2)
    share = (at - low).astype(np.float32).reshape([-1 if n == axis else 1 for n in range(3)])
    return np.take(field, low, axis) * (1 - share) + np.take(field, low + 1, axis) * share
