"""Where a search begins when nothing is known: all turns about the middles, the best ones gone on with."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import dataclass

import numpy as np

from ..core.errors import Cancelled, Trouble
from ..core.progress import Progress, silent
from .affine_fit import Judged, gone_on
from .freedom import Freedom, freedom
from .levels import Level
from .similar import Similarity

TURNS = 720
"""Turns that are looked at, about 25° apart; in a plane fewer do."""
TURNS_IN_PLANE = 48
KEPT, LAST = 16, 4
"""How many are gone on with on the coarsest level, and how many on the next."""
APART = np.radians(15.0)
FEW = 12_000
"""Places that are looked at for each turn."""


@dataclass(frozen=True)
class Begun:
    """A place to begin: the matrix (4, 4) from the fixed world to the moving one, and its cost."""

    matrix: np.ndarray
    cost: float


def begun_anywhere(
    levels: list[Level],
    similarity: Similarity,
    of: Freedom,
    start: np.ndarray | None = None,
    progress: Progress | None = None,
) -> Begun:
    """The best place to begin, of all turns, and of one that is given.

    Turns are spread evenly (M. Alexa, CVPR 2022). Each is judged with the middles of what is bright in both images on
    one another; the best go on by shift and turn, on two levels.
    """
    progress = progress or silent()
    judged = Judged(levels[0].thinned(FEW), similarity)
    rigid = freedom(3 if of.flat else 6, of.flat)
    here, there = levels[0].middles()
    turns = turns_in_plane(TURNS_IN_PLANE) if of.flat else turns_in_space(TURNS)
    tried: list[Begun] = []
    looking = progress.part(0.0, 0.3)
    for n, turn in enumerate(turns):
        if progress.cancelled:
            raise Cancelled()
        looking.at(n / len(turns), "Searching all turns")
        matrix = np.eye(4)
        matrix[:3, :3], matrix[:3, 3] = turn, there - turn @ here
        found = judged.cost(matrix)
        if found is not None:
            tried.append(Begun(matrix, found[0]))
    best = _apart(tried, KEPT)
    if start is not None:  # it goes on, however it looks from afar
        best.insert(0, Begun(start, -np.inf))
    for n, level in enumerate(levels[:2]):
        on_level = Judged(level, similarity)
        part = progress.part(0.3 + 0.35 * n, 0.65 + 0.35 * n)
        followed: list[Begun] = []
        for m, one in enumerate(best):
            own = part.part(m / len(best), (m + 1) / len(best))
            with suppress(Trouble):  # too little overlaps there
                followed.append(Begun(*gone_on(on_level, rigid, one.matrix, own)))
        best = _apart(followed, LAST)
    if not best:
        raise Trouble("The two images do not overlap, however they are turned", "bring them nearer by hand")
    return best[0]


def _apart(tried: list[Begun], most: int) -> list[Begun]:
    """The best ones, none of them turned like a better one."""
    kept: list[Begun] = []
    for one in sorted(tried, key=lambda begun: begun.cost):
        if all(_angle(one.matrix, other.matrix) > APART for other in kept):
            kept.append(one)
            if len(kept) == most:
                break
    return kept


def _angle(one: np.ndarray, other: np.ndarray) -> float:
    """Radians between two turns."""
    cosine = (float(np.trace(one[:3, :3].T @ other[:3, :3])) - 1) / 2
    return float(np.arccos(np.clip(cosine, -1, 1)))


def turns_in_space(count: int) -> list[np.ndarray]:
    """Rotations (3, 3) spread evenly, and that by nothing."""
    s = np.arange(count) + 0.5
    near, far = np.sqrt(s / count), np.sqrt(1 - s / count)
    one, other = 2 * np.pi * s / np.sqrt(2.0), 2 * np.pi * s / 1.533751168755204288118041
    x, y, z, w = near * np.sin(one), near * np.cos(one), far * np.sin(other), far * np.cos(other)
    made = np.empty((count, 3, 3))
    made[:, 0] = np.stack((1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)), 1)
    made[:, 1] = np.stack((2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)), 1)
    made[:, 2] = np.stack((2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)), 1)
    return [np.eye(3), *made]


def turns_in_plane(count: int) -> list[np.ndarray]:
    """Rotations (3, 3) about z."""
    angles = 2 * np.pi * np.arange(count) / count
    return [np.array([(np.cos(a), -np.sin(a), 0.0), (np.sin(a), np.cos(a), 0.0), (0.0, 0.0, 1.0)]) for a in angles]
