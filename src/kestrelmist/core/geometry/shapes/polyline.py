"""Lines and areas through any number of points."""

from __future__ import annotations

import numpy as np

from .. import amounts
from ..shape import Shape, register


def _begun(start: np.ndarray, end: np.ndarray, plane, even: bool) -> np.ndarray:
    return np.stack((start, end))


register(
    Shape(
        "polyline",
        "Polyline",
        2,
        0,
        "clicks",
        _begun,
        ends="ticks",
        measured=lambda points: {"length": amounts.along(points)},
        icon="polyline",
        order=22,
        more="path curve freehand length trace open contour",
        hint="Click for each point; Enter or a double click ends it, Backspace takes the last point back.",
    )
)
register(
    Shape(
        "polygon",
        "Polygon",
        3,
        0,
        "clicks",
        _begun,
        closed=True,
        measured=lambda points: {"area": amounts.area(points), "perimeter": amounts.along(points, True)},
        icon="polygon",
        order=23,
        more="area contour outline closed",
        hint="Click for each corner; Enter or a double click closes it, Backspace takes the last corner back.",
    )
)
