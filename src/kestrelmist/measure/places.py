"""Places that are looked for in values and labels."""

from __future__ import annotations

import numpy as np

from ..core.errors import Trouble
from ..core.image import Image
from ..core.labels import LabelMap

NEAR = 5
"""Voxels in each direction that "near" is."""


def highest_near(image: Image, world, near: int = NEAR) -> np.ndarray | None:
    """World position of the highest value within some voxels of a place; None when there is no value."""
    image = image.grey()
    at = np.floor(image.space.to_voxel(world) + 0.5).astype(int)
    low, high = np.maximum(at - near, 0), np.minimum(at + near + 1, image.space.shape)
    if np.any(high <= low):
        return None
    part = np.asarray(image.data[tuple(slice(a, b) for a, b in zip(low, high))], np.float64)
    if not np.isfinite(part).any():
        return None
    best = np.unravel_index(np.nanargmax(np.where(np.isfinite(part), part, np.nan)), part.shape)
    return image.space.to_world(low + np.array(best))


def middle_of(labels: LabelMap, number: int) -> np.ndarray:
    """World position of the voxel of a label that is nearest to its middle: of a bent one the middle lies outside."""
    box = labels.painted or (slice(0, 0),) * 3
    inside = np.argwhere(labels.kji[box] == number) + [part.start for part in box]
    if not inside.size:
        raise Trouble("This label has no voxels", "choose one that has")
    nearest = inside[np.argmin(((inside - inside.mean(0)) ** 2).sum(1))]
    return labels.space.to_world(nearest[::-1])
