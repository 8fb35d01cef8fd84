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


class Apart(Trouble):
    """Two things do not lie together. `short` says why in a few words."""

    def __init__(self, what: str, do: str = "", short: str = ""):
        self.short = short
        super().__init__(what, do)

    def __reduce__(self):
        return type(self), (self.what, self.do, self.short)


def why_apart(name: str, space: Space, other_name: str, other: Space, way: Mapping | None = None) -> Apart | None:
    """Why an image cannot lie over another one, on the grids `other` and `space`: they have no scale or no world in
    common, or do not overlap; None when it can. `way` leads from the world of the lower one to that of the other, where
    these are two."""
    if way is None:
        why = _why_no_common_world(name, space, other_name, other)
        if why is not None:
            return why
        away = gap_between(space, other)
    else:
        away = gap_through(space, other, way)
    if not away > 0:
        return None
    between = f"{away:.3g} {space.unit}"
    return Apart(
        f"“{other_name}” does not overlap “{name}”: {between} lie between them",
        "place it first (Align), or choose another image",
        f"{between} away",
    )


def require_overlap(image: Image, other: Image, way: Mapping | None = None) -> None:
    """Raises Apart when an image cannot lie over another one; see `why_apart`."""
    why = why_apart(image.name, image.space, other.name, other.space, way)
    if why is not None:
        raise why


def gap_through(one: Space, other: Space, way: Mapping) -> float:
    """The same for grids in two worlds: `way` leads from that of the first to that of the other."""
    ends = np.stack(np.meshgrid(*(np.linspace(0, n - 1, 4) for n in one.shape), indexing="ij"), axis=-1).reshape(-1, 3)
    a, b = way.of_volume(0).to(one.to_world(ends)), other.corners()
    a = a[np.isfinite(a).all(axis=1)]
    if not len(a):
        return float("inf")
    gap = np.maximum(np.maximum(a.min(0) - b.max(0), b.min(0) - a.max(0)), 0)
    return float(np.linalg.norm(gap))


def require_one_world(image: Image, other: Image) -> None:
    """Raises Apart when positions in one image say nothing about the other. On one grid, who asks for it knows."""
    why = _why_no_common_world(image.name, image.space, other.name, other.space)
    if why is not None:
        raise why


def _why_no_common_world(name: str, space: Space, other_name: str, other: Space) -> Apart | None:
    if other.same_grid(space):
        return None
    if other.unit != space.unit:
        what = f"“{other_name}” has no scale in common with “{name}”"
        return Apart(what, "set the voxel size of both", "no common scale")
    a, b = space.world, other.world
    return apart(other_name, b, name, a) if a.id and b.id and not a.is_one_with(b) else None


def apart(name: str, world: World, other_name: str, other: World) -> Apart:
    """The sentence for two things in worlds between which nothing leads."""
    return Apart(
        f"“{name}” lies in another space ({world}) than “{other_name}” ({other}), and no transform leads from one to"
        " the other",
        "align them, lay one by hand (“Lay by hand”, middle on middle), or say that both lie together",
        "in another space",
    )
