"""Rectangles: four corners in order, at right angles in any plane. Boxes have a depth: a corner and its three
neighbours."""

from __future__ import annotations

import numpy as np

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
        icon="rectangle",
        order=24,
        more="box area square",
        hint="Drag from corner to corner; drag corners and sides to change it. Shift makes a square.",
    )
)


def _box_outline(points: Points) -> Points:
    """Round all twelve edges without lifting the pen."""
    o = points[0]
    i, j, k = points[1:] - o
    return np.stack(
        (o, o + i, o + i + j, o + j, o, o + k, o + i + k, o + i, o + i + k, o + i + j + k, o + i + j, o + i + j + k)
        + (o + j + k, o + j, o + j + k, o + k)
    )


def _box_sizes(points: Points) -> dict[str, float]:
    return {
        name: float(np.linalg.norm(points[n] - points[0])) for n, name in enumerate(("width", "height", "depth"), 1)
    }


def _box_sized(points: Points, name: str, value: float) -> Points:
    n = {"width": 1, "height": 2, "depth": 3}[name]
    way = points[n] - points[0]
    length = float(np.linalg.norm(way))
    way = way * value / length if length > 0 else np.eye(3)[n - 1] * value
    middle = points[0] + (points[1:] - points[0]).sum(0) / 2
    ways = points[1:] - points[0]
    ways[n - 1] = way
    corner = middle - ways.sum(0) / 2
    return np.vstack((corner[None], corner + ways))


register(
    Shape(
        "box",
        "Box",
        4,
        4,
        "drag",
        lambda start, end, plane, even: np.vstack(
            (begun(start, end, plane, even)[[0, 1, 3]], start[None] + 0 * plane.normal)
        ),
        outline=_box_outline,
        solid=True,
        sizes=_box_sizes,
        sized=_box_sized,
        order=42,
        more="volume of interest cuboid crop",
    )
)
