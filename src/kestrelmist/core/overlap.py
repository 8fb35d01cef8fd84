"""Whether two grids lie together in the world."""

from __future__ import annotations

import numpy as np

from .errors import Trouble
from .image import Image
from .mapping import Mapping
from .space import Space
from .world import World


def gap_between(one: Space, other: Space) -> float:
    """Distance between the boxes that hold two grids, in their unit; 0 when they overlap."""
    a, b = one.corners(), other.corners()
    gap = np.maximum(np.maximum(a.min(0) - b.max(0), b.min(0) - a.max(0)), 0)
    return float(np.linalg.norm(gap))


def require_overlap(image: Image, other: Image, way: Mapping | None = None) -> None:
    """Raises Trouble when an image cannot lie over another one: they have no scale or no world in common, or do not
    overlap. `way` leads from the world of the image to that of the other one, where these are two."""
    if way is None:
        require_one_world(image, other)
        away = gap_between(image.space, other.space)
    else:
        away = gap_through(image.space, other.space, way)
    if away > 0:
        raise Trouble(
            f"“{other.name}” does not overlap “{image.name}”: {away:.3g} {image.space.unit} lie between them",
            "place it first (Align), or choose another image",
        )


def gap_through(one: Space, other: Space, way: Mapping) -> float:
    """The same for grids in two worlds: `way` leads from that of the first to that of the other."""
    ends = np.stack(np.meshgrid(*(np.linspace(0, n - 1, 4) for n in one.shape), indexing="ij"), axis=-1).reshape(-1, 3)
    a, b = way.to(one.to_world(ends)), other.corners()
    a = a[np.isfinite(a).all(axis=1)]
    if not len(a):
        return float("inf")
    gap = np.maximum(np.maximum(a.min(0) - b.max(0), b.min(0) - a.max(0)), 0)
    return float(np.linalg.norm(gap))


def require_one_world(image: Image, other: Image) -> None:
    """Raises Trouble when positions in one image say nothing about the other. On one grid, who asks for it knows."""
    if other.space.same_grid(image.space):
        return
    if other.space.unit != image.space.unit:
        raise Trouble(f"“{other.name}” has no scale in common with “{image.name}”", "set the voxel size of both")
    a, b = image.space.world, other.space.world
    if a.id and b.id and not a.is_one_with(b):
        raise apart(other.name, b, image.name, a)


def apart(name: str, world: World, other_name: str, other: World) -> Trouble:
    """The sentence for two things in worlds between which nothing leads."""
    return Trouble(
        f"“{name}” lies in another space ({world}) than “{other_name}” ({other}), and no transform leads from one to"
        " the other",
        "open, make or place by one (Align), or say that both lie together",
    )
