"""Angles: between two legs, and between two lines."""

from __future__ import annotations

import numpy as np

from .. import amounts
from ..shape import Plane, Points, Shape, register


def _begun(start: np.ndarray, end: np.ndarray, plane: Plane, even: bool) -> Points:
    return np.stack((start, end))


register(
    Shape(
        "angle",
        "Angle",
        3,
        3,
        "clicks",
        _begun,
        measured=lambda points: {"angle": amounts.angle(points[0] - points[1], points[2] - points[1])},
        icon="angle",
        order=26,
        more="degrees goniometer",
        hint="Click the end of one leg, the corner, and the end of the other leg.",
    )
)


register(
    Shape(
        "lines-angle",
        "Angle of two lines",
        4,
        4,
        "clicks",
        _begun,
        apart=(2,),
        measured=lambda points: {"angle": amounts.angle(points[1] - points[0], points[3] - points[2])},
        icon="lines-angle",
        order=27,
        more="degrees goniometer two lines direction",
        hint="Click both ends of one line, then both ends of the other; the angle is that of their directions.",
    )
)
