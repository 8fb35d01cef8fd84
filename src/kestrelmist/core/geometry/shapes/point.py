"""A point: a landmark, a place, one of what is counted."""

from __future__ import annotations

from ..shape import Shape, register

register(
    Shape(
        "point",
        "Point",
        1,
        1,
        "click",
        lambda start, end, plane, even: end[None],
        icon="dot",
        order=20,
        more="landmark fiducial marker place count dot",
        hint="Click to set a point; drag one to move it.",
    )
)
