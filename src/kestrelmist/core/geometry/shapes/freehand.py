"""A line drawn by hand, as along a vessel or a border."""

from __future__ import annotations

import numpy as np

from .. import amounts
from ..shape import Shape, register

register(
    Shape(
        "freehand",
        "Freehand line",
        2,
        0,
        "trace",
        lambda start, end, plane, even: np.stack((start, end)),
        ends="ticks",
        measured=lambda points: {"length": amounts.along(points)},
        icon="freehand",
        order=29,
        more="freehand length trace curve path pencil",
        hint="Draw along what is to be measured.",
    )
)
