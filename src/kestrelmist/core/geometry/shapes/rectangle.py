"""Rectangles: four corners in order, at right angles in any plane."""

from __future__ import annotations

from typing import Any

import numpy as np

from .. import amounts
from ..shape import Plane, Points, Shape, register


def begun(start: np.ndarray, end: np.ndarray, plane: Plane, even: bool) -> Points:
    """The rectangle along the plane's axes from the press to the pointer; a square when `even`."""
    wide, high = float((end - start) @ plane.right), float((end - start) @ plane.down)
    if even:
        side = max(abs(wide), abs(high))
        wide, high = np.copysign(side, wide), np.copysign(side, high)
    across, along = wide * plane.right, high * plane.down
    return np.stack((start, start + across, start + across + along, start + along))


def handles(points: Points) -> Points:
    """The four corners, and the middles of the four sides."""
    return np.vstack((points, (points + np.roll(points, -1, 0)) / 2))


def pulled(points: Points, handle: int, to: np.ndarray, plane: Plane, even: bool) -> Points:
    """A corner or a side elsewhere; what lies opposite stays, and the angles are right."""
    if handle >= 4:
        side = handle - 4
        one, other = side, (side + 1) % 4
        out = points[one] - points[(side + 3) % 4]
        length = float(out @ out)
        if not length > 0:
            return points
        moved, shift = points.copy(), out * float((to - points[one]) @ out) / length
        moved[one], moved[other] = points[one] + shift, points[other] + shift
        return moved
    before, after, against = (handle + 3) % 4, (handle + 1) % 4, (handle + 2) % 4
    ways: list[np.ndarray] = []
    for beside in (before, after):
        way = points[beside] - points[against]
        length = float(np.linalg.norm(way))
        ways.append(way / length if length > 0 else (plane.right if not ways else plane.down))
    out = [way * float((to - points[against]) @ way) for way in ways]
    if even:
        longest = max(float(np.linalg.norm(one)) for one in out)
        out = [way * np.copysign(longest, float(one @ way)) for one, way in zip(out, ways)]
    moved = points.copy()
    moved[before], moved[after] = points[against] + out[0], points[against] + out[1]
    moved[handle] = points[against] + out[0] + out[1]
    return moved


def sizes(points: Points) -> dict[str, float]:
    """Its sides."""
    return {
        "width": float(np.linalg.norm(points[1] - points[0])),
        "height": float(np.linalg.norm(points[3] - points[0])),
    }


def sized(points: Points, name: str, value: float) -> Points:
    """With another width or height, about its middle."""
    middle = points.mean(0)
    across, along = (points[1] - points[0]) / 2, (points[3] - points[0]) / 2
    half = {"width": across, "height": along}[name]
    length = 2 * float(np.linalg.norm(half))
    other = np.array((1.0, 0.0, 0.0)) if name == "width" else np.array((0.0, 1.0, 0.0))
    half = half * value / length if length > 0 else other * value / 2
    across, along = (half, along) if name == "width" else (across, half)
    return middle + np.stack((-across - along, across - along, across + along, along - across))


def measured(points: Points) -> dict[str, Any]:
    """Its sides, area and perimeter."""
    width, height = amounts.norm(points[1] - points[0]), amounts.norm(points[3] - points[0])
    whole = {"area": width * height, "perimeter": 2 * (width + height)}
    return {"width": width, "height": height, **whole}


register(
    Shape(
        "rectangle",
        "Rectangle",
        4,
        4,
        "drag",
        begun,
        closed=True,
        handles=handles,
        pulled=pulled,
        sizes=sizes,
        sized=sized,
        measured=measured,
        icon="rectangle",
        order=24,
        more="box area square",
        hint="Drag from corner to corner; drag corners and sides to change it. Shift makes a square.",
    )
)
