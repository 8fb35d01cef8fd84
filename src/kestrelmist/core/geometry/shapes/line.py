"""Straight lines between two points, and their kin: arrows, and sections, which have a width."""

from __future__ import annotations

import numpy as np

from .. import amounts
from ..shape import Plane, Points, Shape, register, straight

SNAPPED = ("line", "section")
"""Shapes whose two ends can be brought to edges of an image."""


def begun(start: np.ndarray, end: np.ndarray, plane: Plane, even: bool) -> Points:
    """From the press to the pointer; straight when `even`."""
    return np.stack((start, straight(start, end, plane) if even else end))


def pulled(points: Points, handle: int, to: np.ndarray, plane: Plane, even: bool) -> Points:
    """One end elsewhere; seen from the other end the line is straight when `even`."""
    moved = points.copy()
    moved[handle] = straight(points[1 - handle], to, plane) if even else to
    return moved


def sizes(points: Points) -> dict[str, float]:
    """How long it is."""
    return {"length": float(np.linalg.norm(points[1] - points[0]))}


def sized(points: Points, name: str, value: float) -> Points:
    """As long as told, from its first end on."""
    way = points[1] - points[0]
    length = float(np.linalg.norm(way))
    way = way / length if length > 0 else np.array((1.0, 0.0, 0.0))
    return np.stack((points[0], points[0] + way * {"length": value}[name]))


def _kin(name: str, title: str, ends: str = "ticks", **more) -> Shape:
    return Shape(name, title, 2, 2, "drag", begun, ends=ends, pulled=pulled, sizes=sizes, sized=sized, **more)


register(
    _kin(
        "line",
        "Line",
        measured=lambda points: {"length": amounts.along(points)},
        icon="line",
        order=21,
        more="length distance ruler caliper measure",
        hint="Drag a line; drag its ends to move them. Shift keeps it straight.",
    )
)
register(
    _kin(
        "arrow",
        "Arrow",
        "arrow",
        icon="arrow",
        order=30,
        more="pointer annotation",
        hint="Drag from where it begins to what it points at. Shift keeps it straight.",
    )
)
register(
    _kin(
        "section",
        "Section",
        measured=lambda points: {"length": amounts.along(points)},
        order=41,
        more="line profile cross-section",
    )
)
