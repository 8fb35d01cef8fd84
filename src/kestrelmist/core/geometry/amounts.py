"""Lengths, areas and angles of points, whether these are plain numbers or know how sure they are."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

DIMENSIONS = {
    "length": 1,
    "perimeter": 1,
    "width": 1,
    "height": 1,
    "depth": 1,
    "diameter": 1,
    "area": 2,
    "volume": 3,
    "angle": 0,
}
"""What is measured of marks, and which power of a length each is; an angle is in degrees."""
Amounts = dict[str, Any]


def root(value: Any) -> Any:
    """The square root of a number, with its uncertainty where it has one; 0 of what is not above 0."""
    if isinstance(value, (int, float)):
        return math.sqrt(max(value, 0.0))
    from uncertainties import umath

    return umath.sqrt(value) if value.nominal_value > 0 else 0.0 * value


def norm(way: np.ndarray) -> Any:
    """Length of a vector (3,)."""
    return root(way[0] * way[0] + way[1] * way[1] + way[2] * way[2])


def cross(one: np.ndarray, other: np.ndarray) -> np.ndarray:
    """The vector product of two vectors (3,)."""
    a, b = one, other
    return np.array([a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]])


def along(points: np.ndarray, closed: bool = False) -> Any:
    """Length of the line through points (n, 3)."""
    ends = zip(points, [*points[1:], points[0]]) if closed else zip(points, points[1:])
    return sum(norm(b - a) for a, b in ends)


def area(points: np.ndarray) -> Any:
    """Area within a closed line of one plane, points (n, 3); where it crosses itself, parts count by their sense."""
    from_first = points - points[0]
    whole = np.zeros(3)
    for a, b in zip(from_first[1:], from_first[2:]):
        whole = whole + cross(a, b)
    plain = np.array([nominal(v) for v in whole])
    size = float(np.linalg.norm(plain))
    if not size > 0:
        return 0.0
    return 0.5 * (whole @ (plain / size))


def angle(one: np.ndarray, other: np.ndarray) -> Any:
    """Degrees from 0 to 180 between two vectors (3,)."""
    across, dot = norm(cross(one, other)), one[0] * other[0] + one[1] * other[1] + one[2] * other[2]
    if isinstance(across, float) and isinstance(dot, float):
        return math.degrees(math.atan2(across, dot))
    from uncertainties import umath

    return umath.atan2(across, dot) * (180 / math.pi)


def round_ellipse(a: Any, b: Any) -> Any:
    """The way round an ellipse of two half diameters (S. Ramanujan, Q. J. Math. 45, 1914: off by less than 1e-6 of it
    for up to one to five, and by less than 5e-4 whatever they are)."""
    both = a + b
    if not nominal(both) > 0:
        return 0.0
    h = ((a - b) / both) ** 2
    return math.pi * both * (1 + 3 * h / (10 + root(4 - 3 * h)))


def nominal(value: Any) -> float:
    """A number without its uncertainty."""
    return float(getattr(value, "nominal_value", value))
