"""Length, perimeter and area of lines of many points with their uncertainty, worked out at once.

The same as `amounts` tells of numbers that know how sure they are, by the first derivatives in closed form: a freehand
line of a thousand points is told while it is drawn.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np


class Followed(NamedTuple):
    """A quantity, how much it changes with all its points together (the root of the sum of squares of its derivatives),
    and with the scale along each axis."""

    value: float
    by_points: float
    by_scale: np.ndarray


def followed_length(points: np.ndarray, closed: bool = False) -> Followed:
    """Of the line through points (n, 3)."""
    ways = np.diff(np.vstack((points, points[:1])) if closed else points, axis=0)
    lengths = np.linalg.norm(ways, axis=1)
    with np.errstate(invalid="ignore", divide="ignore"):
        units = np.where(lengths[:, None] > 0, ways / lengths[:, None], 0.0)
    if closed:
        changes = np.roll(units, 1, 0) - units
    else:
        changes = np.vstack((np.zeros(3), units)) - np.vstack((units, np.zeros(3)))
    by_scale = (units * ways).sum(0)
    return Followed(float(lengths.sum()), float(np.sqrt((changes**2).sum())), by_scale)


def followed_area(points: np.ndarray) -> Followed:
    """Within a closed line of one plane, points (n, 3)."""
    after, before = np.roll(points, -1, 0), np.roll(points, 1, 0)
    whole = np.cross(points - points[0], after - points[0]).sum(0) / 2
    value = float(np.linalg.norm(whole))
    if not value > 0:
        return Followed(0.0, 0.0, np.zeros(3))
    normal = whole / value
    changes = np.cross(after - before, normal) / 2
    return Followed(value, float(np.sqrt((changes**2).sum())), value * (1 - normal**2))
