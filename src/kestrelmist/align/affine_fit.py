"""How a moving image lies to a fixed one, by an affine transform: level by level, the coarsest first."""

from __future__ import annotations

from typing import Protocol

import numpy as np

from ..core.errors import Cancelled, Trouble
from ..core.found_so_far import FoundSoFar
from ..core.progress import Progress, silent
from ..core.transform import Transform
from .descent import descended
from .freedom import Freedom, matrix_of, nearest, numbers_of, slopes_of
from .levels import Level
from .looks import Looks
from .similar import Seen, Similarity

LEAST_OVERLAP = 0.2
"""Share of the places that must lie inside the moving image; where fewer do, nothing is judged."""
STEPS = 60
CLOSE = 2e-3
"""Shift, in voxels of the level, below which two steps in a row end it."""


class Costs(Protocol):
    """What an alignment goes down: a cost of twelve numbers about a centre (mm), for places that lie a radius (mm)
    about it, on voxels of a size (mm)."""

    centre: np.ndarray
    radius: float
    pixel: float

    def at(self, numbers: np.ndarray) -> tuple[float, np.ndarray] | None:
        """The cost, and how it grows with each number; None where it cannot be told."""


class Judged:
    """Cost of a matrix on one level, and how it grows with the twelve numbers."""

    def __init__(self, level: Level, similarity: Similarity):
        self.level, self.centre, self.radius, self.pixel = level, level.centre, level.radius, level.pixel
        self.most, self.heavy = level.most, None
        if level.moving_weights is not None:
            self.heavy = Looks(level.moving_weights, level.moving_space, level.places, level.centre)
        self.looks = Looks(level.moving, level.moving_space, level.places, level.centre)
        self.measure = similarity.made(Seen(level.values, level.limits, level.shape if similarity.whole else None))

    def overlap(self, matrix: np.ndarray) -> float:
        """Which share of the places that count lies inside the moving image."""
        return float(self.level.weighed(self.looks.look(matrix)[1]).sum(dtype=np.float64)) / self.most

    def cost(self, matrix: np.ndarray) -> tuple[float, np.ndarray] | None:
        """The cost, and how it grows with each number of the frame (3, 4); None where too little overlaps."""
        found, inside = self.looks.look(matrix)
        inside = self.level.weighed(inside)
        if inside.sum(dtype=np.float64) < LEAST_OVERLAP * self.most:
            return None
        if self.heavy is not None:
            inside = inside * self.heavy.look(matrix)[0]
        cost, slope = self.measure(found, inside)
        return cost, self.looks.pulled(slope)

    def at(self, numbers: np.ndarray) -> tuple[float, np.ndarray] | None:
        """The same of twelve numbers."""
        judged = self.cost(matrix_of(numbers, self.centre))
        if judged is None:
            return None
        cost, by_frame = judged
        return cost, self.looks.slope(by_frame, slopes_of(numbers, self.centre))


def fitted(
    levels: list[Level], similarity: Similarity, of: Freedom, start: np.ndarray, progress: Progress | None = None
) -> np.ndarray:
    """The matrix (4, 4) from the fixed world to the moving one that makes both most alike, begun at one.

    Parameters
    ----------
    levels : list
        The coarsest first.

    Raises
    ------
    Trouble
        When too little of the images overlaps at the start.
    Cancelled
    """
    progress, matrix = progress or silent(), start
    for n, level in enumerate(levels):
        part = progress.part(n / len(levels), (n + 1) / len(levels))
        matrix, cost = gone_on(Judged(level, similarity), of, matrix, part, (n + 1, len(levels)))
        progress.show(FoundSoFar(cost, n + 1, len(levels), Transform(matrix), True))
        if progress.has_enough:
            break
    return matrix


def gone_on(
    judged: Costs, of: Freedom, matrix: np.ndarray, progress: Progress, level: tuple[int, int] = (1, 1)
) -> tuple[np.ndarray, float]:
    """A matrix gone on with, and its cost; `level` says which one this is, of how many. Raises as `fitted` does."""
    start = nearest(numbers_of(matrix, judged.centre), of)
    # so that a unit of each moves the places by about half a voxel
    scale = 0.5 * judged.pixel * np.array([1.0] * 3 + [1.0 / judged.radius] * 9)[:, None] * of.free
    begun = judged.at(start)
    if begun is None:
        raise Trouble("Too little of the two images overlaps", "bring them nearer by hand, or search fully")
    now, before, steps, calm = begun[0], np.zeros(of.free.shape[1]), 0, 0

    def cost(free: np.ndarray) -> tuple[float, np.ndarray]:
        if progress.cancelled:
            raise Cancelled()
        found = judged.at(start + scale @ free)
        if found is None:  # too far away: back to the start
            return 1e3 + float(free @ free), 2 * free
        return found[0], scale.T @ found[1]

    def after(free: np.ndarray, lower: float) -> bool:
        nonlocal now, before, steps, calm
        now, steps = lower, steps + 1
        progress.at(min(steps / STEPS, 1.0), "Aligning")
        calm = calm + 1 if np.linalg.norm(free - before) < 2 * CLOSE else 0
        before = free.copy()
        if progress.watched:
            way = Transform(matrix_of(start + scale @ free, judged.centre))
            progress.show(FoundSoFar(lower, *level, way))
        return calm >= 2 or progress.has_enough

    found = descended(cost, before, after, STEPS)
    progress.at(1.0, "Aligning")
    return matrix_of(start + scale @ found, judged.centre), now
