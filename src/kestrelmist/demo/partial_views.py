"""Functional views of an animal's head: one that sees a tilted part of it, one that sees all, each with its pose."""

from __future__ import annotations

import numpy as np

from ..core.rigid import matrix_of
from ..core.space import Space


def partial_space(seed: int) -> Space:
    """Twelve fine slices through the fore part of the brain, tilted as somebody would lay them for the odour run."""
    rng = np.random.default_rng(seed + 40)
    turned = matrix_of(np.radians([0, 0, 0, *(rng.uniform(-1, 1, 3) * (18, 4, 5) + (8, 0, 0))]) * (0, 0, 0, 1, 1, 1),
                       np.zeros(3))  # fmt: skip
    affine = turned @ np.diag([0.25, -0.25, 0.5, 1.0])
    shape = (80, 80, 12)
    middle = np.array([0.0, -0.6, 1.2]) + rng.uniform(-0.5, 0.5, 3)
    affine[:3, 3] = middle - affine[:3, :3] @ ((np.array(shape) - 1) / 2)
    return Space(shape, affine)


def whole_space() -> Space:
    """Straight slices of the whole head, coarser."""
    affine, shape = np.diag([0.6, -0.6, 1.0, 1.0]), (40, 44, 22)
    affine[:3, 3] = np.array([0.0, -0.6, 1.0]) - affine[:3, :3] @ ((np.array(shape) - 1) / 2)
    return Space(shape, affine)


def pose_of(seed: int, which: int) -> np.ndarray:
    """How the head lies in a scan, (4, 4), from where it lies in the anatomical one: a different pose for each."""
    rng = np.random.default_rng(100 * seed + which)
    moved = rng.uniform(-1, 1, 6) * (0.6, 0.8, 0.6, *np.radians((3.0, 3.0, 3.0)))
    return matrix_of(moved, (0.0, -0.6, 1.0))
