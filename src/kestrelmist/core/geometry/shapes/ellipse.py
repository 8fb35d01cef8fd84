"""Ellipses: the ends of two diameters, in order round it. Seen through an affine mapping they still tell the ellipse:
its points are the middle + cos·a + sin·b, whatever the angle between the half diameters a and b."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from .. import amounts
from ..shape import Plane, Points, Shape, register
from . import rectangle

STEPS = 96


def begun(start: np.ndarray, end: np.ndarray, plane: Plane, even: bool) -> Points:
    """The ellipse in the rectangle from the press to the pointer; a circle when `even`."""
    return _sides(rectangle.begun(start, end, plane, even))


def _sides(corners: Points) -> Points:
    """Middles of the sides of a rectangle."""
    return (corners + np.roll(corners, -1, 0)) / 2


def outline(points: Points) -> Points:
    """The ellipse as a closed line of STEPS points."""
    middle, a, b = points.mean(0), (points[0] - points[2]) / 2, (points[1] - points[3]) / 2
    turn = np.linspace(0, 2 * np.pi, STEPS, endpoint=False)[:, None]
    return middle + np.cos(turn) * a + np.sin(turn) * b


def pulled(points: Points, handle: int, to: np.ndarray, plane: Plane, even: bool) -> Points:
    """An end of a diameter elsewhere along it, the middle stays; a circle when `even`."""
    middle, half = points.mean(0), points[handle] - points.mean(0)
    length = float(half @ half)
    way = half / np.sqrt(length) if length > 0 else plane.right
    reach = float((to - middle) @ way)
    moved = points.copy()
    moved[handle], moved[(handle + 2) % 4] = middle + way * reach, middle - way * reach
    if even:
        for n in ((handle + 1) % 4, (handle + 3) % 4):
            other = points[n] - middle
            wide = float(np.linalg.norm(other))
            moved[n] = middle + (other * abs(reach) / wide if wide > 0 else other)
    return moved


def sizes(points: Points) -> dict[str, float]:
    """Its two diameters."""
    return {
        "width": float(np.linalg.norm(points[1] - points[3])),
        "height": float(np.linalg.norm(points[0] - points[2])),
    }


def sized(points: Points, name: str, value: float) -> Points:
    """With another diameter, about its middle."""
    n = {"width": 1, "height": 0}[name]
    middle, half = points.mean(0), (points[n] - points[n + 2]) / 2
    length = 2 * float(np.linalg.norm(half))
    half = half * value / length if length > 0 else np.eye(3)[1 - n] * value / 2
    moved = points.copy()
    moved[n], moved[n + 2] = middle + half, middle - half
    return moved


def measured(points: Points) -> dict[str, Any]:
    """Its diameters, area and perimeter."""
    one, other = points[0] - points[2], points[1] - points[3]
    height, width = amounts.norm(one), amounts.norm(other)
    area = amounts.norm(amounts.cross(one, other)) * (math.pi / 4)
    return {"width": width, "height": height, "area": area, "perimeter": amounts.round_ellipse(width / 2, height / 2)}


register(
    Shape(
        "ellipse",
        "Ellipse",
        4,
        4,
        "drag",
        begun,
        outline,
        closed=True,
        pulled=pulled,
        sizes=sizes,
        sized=sized,
        measured=measured,
        icon="ellipse",
        order=25,
        more="circle oval area",
        hint="Drag from corner to corner of the box round it; drag its ends to change it. Shift makes a circle.",
    )
)
