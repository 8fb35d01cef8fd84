"""Angles between two legs; and words at a place."""

from __future__ import annotations

import numpy as np

from ..shape import Shape, register

register(
    Shape(
        "angle",
        "Angle",
        3,
        3,
        "clicks",
        lambda start, end, plane, even: np.stack((start, end)),
        order=43,
        more="degrees goniometer",
        hint="Click the end of one leg, the corner, and the end of the other leg.",
    )
)
register(
    Shape(
        "text",
        "Text",
        1,
        1,
        "click",
        lambda start, end, plane, even: end[None],
        order=44,
        more="note annotation caption label words",
    )
)
