"""Whether two grids lie together in the world."""

from __future__ import annotations

import numpy as np

from .errors import Trouble
from .image import Image
from .space import Space


def gap_between(one: Space, other: Space) -> float:
    """Distance between the boxes that hold two grids, in their unit; 0 when they overlap."""
    a, b = one.corners(), other.corners()
    gap = np.maximum(np.maximum(a.min(0) - b.max(0), b.min(0) - a.max(0)), 0)
    return float(np.linalg.norm(gap))


def require_overlap(image: Image, other: Image) -> None:
    """Raises Trouble when an image cannot lie over another one: they have no scale in common, or do not overlap."""
    if image.space.unit != other.space.unit:
        raise Trouble(f"“{other.name}” has no scale in common with “{image.name}”", "set the voxel size of both")
    away = gap_between(image.space, other.space)
    if away > 0:
        raise Trouble(
            f"“{other.name}” does not overlap “{image.name}”: {away:.3g} {image.space.unit} lie between them",
            "place it first (Align), or choose another image",
        )


def require_one_world(image: Image, other: Image) -> None:
    """Raises Trouble when positions in one image say nothing about the other. On one grid, who asks for it knows."""
    if other.space.same_grid(image.space):
        return
    if other.space.unit != image.space.unit:
        raise Trouble(f"“{other.name}” and “{image.name}” have no scale in common", "set the voxel size first")
    a, b = image.space.world, other.space.world
    if a.id and b.id and not a.is_one_with(b):
        raise Trouble(
            f"“{other.name}” lies in another space ({b}) than “{image.name}” ({a})",
            "place it by a transform that leads from one to the other first",
        )
