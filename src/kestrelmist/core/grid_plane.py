"""Slices of a grid by the names of planes: along which of its own axes they are stacked."""

from __future__ import annotations

from typing import Literal

import numpy as np

from .space import Space

PlaneName = Literal["axial", "coronal", "sagittal"]
Within = Literal["volume", "axial", "coronal", "sagittal"]
"""The whole volume at once, or each slice of a plane by itself."""
STRAIGHT = 0.9999
"""Cosine from which on two directions are the same."""
ACROSS = {"sagittal": 0, "coronal": 1, "axial": 2}
"""World axis across each plane."""


def axis_across(space: Space, plane: str) -> int:
    """The grid's axis (0, 1, 2 for i, j, k) that runs most nearly straight through a plane; of a picture of one slice
    always that across it."""
    thin = [n for n in range(3) if space.shape[n] == 1]
    return thin[-1] if thin else space.world_axis_of.index(ACROSS[plane])


def lying_in(normal: np.ndarray, space: Space) -> int | None:
    """The grid's axis (0, 1, 2 for i, j, k) whose slices lie in the plane across a direction of length 1; None when
    the plane lies askew to them."""
    for axis in range(3):
        if abs(space.across(axis) @ normal) > STRAIGHT:
            return axis
    return None


def slice_words(space: Space) -> str:
    """What a slice of a grid is called."""
    return "picture" if 1 in space.shape else "slice"
