"""Boxes, which have a depth: a corner and its three neighbours."""

from __future__ import annotations

import itertools
from typing import Any

import numpy as np

from .. import amounts
from ..shape import Plane, Points, Shape, register
from . import rectangle

PLACES = np.array(
    [
        *itertools.product((0.0, 1.0), repeat=3),
        *([side if n == axis else 0.5 for n in range(3)] for axis in range(3) for side in (0.0, 1.0)),
    ]
)
"""Where its handles lie along its three ways: eight corners, and the middles of six sides."""
EDGES = np.array([(a, b) for a, b in itertools.combinations(range(8), 2) if np.abs(PLACES[a] - PLACES[b]).sum() == 1])
"""Which of the corners are joined."""


def outline(points: Points) -> Points:
    """Round all twelve edges without lifting the pen."""
    o = points[0]
    i, j, k = points[1:] - o
    return np.stack(
        (o, o + i, o + i + j, o + j, o, o + k, o + i + k, o + i, o + i + k, o + i + j + k, o + i + j, o + i + j + k)
        + (o + j + k, o + j, o + j + k, o + k)
    )


def cut(points: Points, centre: np.ndarray, normal: np.ndarray) -> Points:
    """Where a plane meets its edges, in order round their middle; if it passes by, where it would first do so."""
    corners = handles(points)[:8]
    away = (corners - centre) @ normal
    tiny = 1e-6 * float(np.ptp(away))
    away = away - np.clip(0, away.min() + tiny, away.max() - tiny)
    (one, other), (above, below) = corners[EDGES.T], away[EDGES.T]
    meets = (above > 0) != (below > 0)
    share = above[meets] / (above[meets] - below[meets])
    at = one[meets] + share[:, None] * (other[meets] - one[meets])
    if not len(at):
        return at
    beside = np.cross(normal, np.eye(3)[int(np.abs(normal).argmin())])
    out = at - at.mean(0)
    return at[np.argsort(np.arctan2(out @ np.cross(normal, beside), out @ beside))]


def handles(points: Points) -> Points:
    """The eight corners, and the middles of the six sides."""
    return points[0] + PLACES @ (points[1:] - points[0])


def pulled(points: Points, handle: int, to: np.ndarray, plane: Plane, even: bool) -> Points:
    """A corner or a side elsewhere, as far as the plane runs along; what lies opposite stays, and the angles are
    right."""
    corner, ways = points[0].copy(), points[1:] - points[0]
    shift = to - handles(points)[handle]
    shift = shift - (shift @ plane.normal) * plane.normal
    for n, share in enumerate(PLACES[handle]):
        length = float(np.linalg.norm(ways[n]))
        if share == 0.5 or not length > 0:
            continue
        by = ways[n] * float(shift @ ways[n]) / length**2
        if share == 0.0:
            corner += by
            by = -by
        ways[n] = ways[n] + by
    return np.vstack((corner[None], corner + ways))


def sizes(points: Points) -> dict[str, float]:
    """Its three sides."""
    return {
        name: float(np.linalg.norm(points[n] - points[0])) for n, name in enumerate(("width", "height", "depth"), 1)
    }


def sized(points: Points, name: str, value: float) -> Points:
    """With another side, about its middle."""
    n = {"width": 1, "height": 2, "depth": 3}[name]
    way = points[n] - points[0]
    length = float(np.linalg.norm(way))
    way = way * value / length if length > 0 else np.eye(3)[n - 1] * value
    middle = points[0] + (points[1:] - points[0]).sum(0) / 2
    ways = points[1:] - points[0]
    ways[n - 1] = way
    corner = middle - ways.sum(0) / 2
    return np.vstack((corner[None], corner + ways))


def measured(points: Points) -> dict[str, Any]:
    """Its sides and volume."""
    ways = points[1:] - points[0]
    sides = {name: amounts.norm(way) for name, way in zip(("width", "height", "depth"), ways)}
    across = amounts.cross(ways[0], ways[1])
    volume = across[0] * ways[2][0] + across[1] * ways[2][1] + across[2] * ways[2][2]
    return {**sides, "volume": volume if amounts.nominal(volume) >= 0 else -volume}


register(
    Shape(
        "box",
        "Box",
        4,
        4,
        "drag",
        lambda start, end, plane, even: np.vstack(
            (rectangle.begun(start, end, plane, even)[[0, 1, 3]], start[None] + 0 * plane.normal)
        ),
        outline=outline,
        cut=cut,
        handles=handles,
        pulled=pulled,
        sizes=sizes,
        sized=sized,
        measured=measured,
        order=42,
        more="volume of interest cuboid crop",
    )
)
