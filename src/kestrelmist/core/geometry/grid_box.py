"""Boxes of whole voxels, as operations take them, and the marks that stand for them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..space import Space
from .mark import Mark


@dataclass(frozen=True)
class GridBox:
    """The first and the last voxel of a box along a grid's i, j, k, both in it."""

    first: tuple[int, int, int]
    last: tuple[int, int, int]

    @property
    def area(self) -> str:
        """Of a picture: first column and row, and how many of each."""
        columns, rows = (b - a + 1 for a, b in zip(self.first[:2], self.last[:2]))
        return f"{self.first[0]},{self.first[1]},{columns},{rows}"

    @property
    def voxels(self) -> str:
        """First and last voxel."""
        return ",".join(map(str, (*self.first, *self.last)))

    def as_mark(self, space: Space, **facts) -> Mark:
        """A box round these voxels; on a picture the rectangle round them. `facts` are further ones of the mark."""
        low, high = np.array(self.first) - 0.5, np.array(self.last) + 0.5
        if space.shape[2] == 1:
            corners = [(low[0], low[1], 0), (high[0], low[1], 0), (high[0], high[1], 0), (low[0], high[1], 0)]
            shape = "rectangle"
        else:
            corners = [tuple(np.where(np.arange(3) == n, high, low)) for n in (-1, 0, 1, 2)]
            shape = "box"
        world = space.to_world(np.array(corners, float))
        return Mark(shape, tuple(map(tuple, world.tolist())), **facts)


def box_round(mark: Mark, space: Space) -> GridBox | None:
    """The voxels of a grid that lie within a mark, by their middles; None when none does."""
    at = space.to_voxel(mark.outline)
    flat = np.array(space.shape) == 1
    first = np.where(flat, 0, np.ceil(at.min(0) - 1e-4).clip(0, None)).astype(int)
    last = np.where(flat, 0, np.floor(at.max(0) + 1e-4).clip(None, np.array(space.shape) - 1)).astype(int)
    if (last < first).any():
        return None
    (i, j, k), (m, n, o) = first.tolist(), last.tolist()
    return GridBox((i, j, k), (m, n, o))
