"""How long a border is: the surface of a body, the perimeter of an area, from how often lines cross it.

The mean number of crossings of all lines tells the surface whatever the shape (Cauchy and Crofton); lines along the
directions to neighbours stand for all, each for the directions that lie nearest to it (G. Lehmann and D. Legland,
Insight Journal, 2012). Steps of the voxels count for nothing. Where a line barely meets a round body its chord may be
shorter than the way from voxel to voxel and be missed: of a ball, and nearly so of other round bodies, that takes
π/3 · h² off the surface, h being that way, which is put back. On a picture with pixels as long as wide it is what
scikit-image calls perimeter_crofton with four directions.
"""

from __future__ import annotations

import math
from functools import lru_cache

import numpy as np

from .sums import WAYS, RegionSums

SPREAD = 40_000
"""Directions that are shared out among the thirteen to weigh them."""


def surfaces(found: RegionSums, steps: np.ndarray, flat: int | None) -> np.ndarray:
    """Surface (or perimeter) of each label.

    Parameters
    ----------
    found : RegionSums
    steps : array (3, 3)
        Vectors from voxel to voxel along k, j and i, a row each.
    flat : int, optional
        Of a picture the axis across it: 0 for k, 1 for j, 2 for i.
    """
    crossings = found.crossings
    if flat is not None:
        return _perimeters(found, steps, flat)
    ways = found.ways @ steps
    lengths = np.linalg.norm(ways, axis=1)
    cell = abs(float(np.linalg.det(steps)))
    weights = np.array(_shares(tuple(map(tuple, (ways / lengths[:, None]).tolist()))))
    area = 2 * (crossings * (weights * cell / lengths)).sum(1)
    return np.where(area > 0, area + math.pi / 3 * float(weights @ lengths**2), 0.0)


def _perimeters(found: RegionSums, steps: np.ndarray, flat: int) -> np.ndarray:
    within = [n for n, way in enumerate(WAYS) if way[flat] == 0]
    crossings, ways = found.crossings[:, within], found.ways[within] @ steps
    lengths = np.linalg.norm(ways, axis=1)
    one, other = (steps[n] for n in range(3) if n != flat)
    cell = float(np.linalg.norm(np.cross(one, other)))
    right, down = other / np.linalg.norm(other), np.cross(np.cross(other, one), other)
    down = down / np.linalg.norm(down)
    turns = np.mod(np.arctan2(ways @ down, ways @ right), math.pi)
    order = np.argsort(turns)
    gaps = np.diff(np.append(turns[order], turns[order][0] + math.pi))
    weights = np.empty(len(within))
    weights[order] = (gaps + np.roll(gaps, 1)) / 2 / math.pi
    return math.pi / 2 * (crossings * (weights * cell / lengths)).sum(1)


@lru_cache(maxsize=32)
def _shares(ways: tuple) -> tuple[float, ...]:
    """What share of all directions lies nearest to each of some."""
    n = np.arange(SPREAD) + 0.5
    z, turn = 1 - 2 * n / SPREAD, np.pi * (1 + math.sqrt(5)) * n  # evenly over the sphere
    flat = np.sqrt(1 - z * z)
    all_ways = np.stack((flat * np.cos(turn), flat * np.sin(turn), z), 1)
    nearest = np.abs(all_ways @ np.array(ways).T).argmax(1)
    return tuple((np.bincount(nearest, minlength=len(ways)) / SPREAD).tolist())
