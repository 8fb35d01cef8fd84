"""A scale bar: a bar of round length that says how long it is."""

from __future__ import annotations

import numpy as np

from ...digits import round_below
from ..shape import Plane, Points, Shape, register
from .line import sized, sizes


def _begun(start: np.ndarray, end: np.ndarray, plane: Plane, even: bool) -> Points:
    """Straight across from the press, of the longest round length up to the pointer."""
    far = float((end - start) @ plane.right)
    if not far:
        return np.stack((start, start))
    return np.stack((start, start + np.sign(far) * round_below(abs(far)) * plane.right))


def _pulled(points: Points, handle: int, to: np.ndarray, plane: Plane, even: bool) -> Points:
    """Longer or shorter by round lengths; the other end and the direction stay."""
    fixed = points[1 - handle]
    way = points[handle] - fixed
    length = float(np.linalg.norm(way))
    way = way / length if length > 0 else plane.right
    far = float((to - fixed) @ way)
    moved = points.copy()
    if far > 0:
        moved[handle] = fixed + round_below(far) * way
    return moved


register(
    Shape(
        "scale-bar",
        "Scale bar",
        2,
        2,
        "drag",
        _begun,
        bar=True,
        pulled=_pulled,
        sizes=sizes,
        sized=sized,
        icon="scale-bar",
        order=32,
        more="scalebar bar length calibration figure",
        hint="Drag across: the bar has the round length that fits. Type another on its card.",
    )
)
