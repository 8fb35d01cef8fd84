"""Circles through three points of their rim, as what is round is measured where its middle cannot be seen."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from .. import amounts
from ..shape import Plane, Points, Shape, register

STEPS = 96


def begun(start: np.ndarray, end: np.ndarray, plane: Plane, even: bool) -> Points:
    """Until there are three points, what is drawn is the line between two."""
    return np.stack((start, end))


def radius(points: Points) -> Any:
    """Of the circle through three points: a b c / 4 A."""
    a, b, c = (amounts.norm(points[n] - points[m]) for n, m in ((0, 1), (1, 2), (2, 0)))
    area = amounts.norm(amounts.cross(points[1] - points[0], points[2] - points[0])) / 2
    return a * b * c / (4 * area) if amounts.nominal(area) > 0 else 0.0 * a


def middle(points: Points) -> np.ndarray:
    """Its middle; that of the points where they lie in a row."""
    a, b = points[1] - points[0], points[2] - points[0]
    across = np.cross(a, b)
    whole = float(across @ across)
    if not whole > 1e-12 * float(a @ a) * float(b @ b):
        return points.mean(0)
    return points[0] + (float(a @ a) * np.cross(b, across) + float(b @ b) * np.cross(across, a)) / (2 * whole)


def outline(points: Points) -> Points:
    """The circle as a closed line of STEPS points; three points in a row are the line through them."""
    centre = middle(points)
    first = points[0] - centre
    across = np.cross(points[1] - points[0], points[2] - points[0])
    size = float(np.linalg.norm(across))
    if not size > 1e-6 * float(np.ptp(points, 0).max()) ** 2:
        return points
    beside = np.cross(across / size, first)
    turn = np.linspace(0, 2 * np.pi, STEPS, endpoint=False)[:, None]
    return centre + np.cos(turn) * first + np.sin(turn) * beside


def measured(points: Points) -> dict[str, Any]:
    """Its diameter, area and perimeter."""
    r = radius(points)
    return {"diameter": 2 * r, "area": math.pi * r * r, "perimeter": 2 * math.pi * r}


def sizes(points: Points) -> dict[str, float]:
    """Its diameter."""
    return {"diameter": 2 * float(radius(points))}


def sized(points: Points, name: str, value: float) -> Points:
    """With another diameter, about its middle."""
    centre, now = middle(points), {"diameter": 2 * float(radius(points))}[name]
    return centre + (points - centre) * (value / now) if now > 0 else points


register(
    Shape(
        "circle",
        "Circle",
        3,
        3,
        "clicks",
        begun,
        outline,
        closed=True,
        sizes=sizes,
        sized=sized,
        measured=measured,
        icon="circle",
        order=28,
        more="three points round diameter radius curvature",
        hint="Click three points of the rim; drag them to change it.",
    )
)
