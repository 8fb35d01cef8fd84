"""A slice of an image as a picture that stands in a solid scene."""

from __future__ import annotations

import numpy as np

from ...core.image import Image
from ..drawing import draw_over
from ..layer import ImageLook
from ..layer_type import Drawn
from ..view import AXIAL, CORONAL, SAGITTAL, fitted, through

MOST = 512
"""Pixels along its longer side."""
PLANES = (SAGITTAL, CORONAL, AXIAL)
"""Across x, y and z."""


def slice_of(image: Image, look: ImageLook, axis: int, at: tuple) -> tuple[np.ndarray, np.ndarray]:
    """Packed colours (rows, columns) of the slice across a world axis at a place, and the world positions (3, 3) of its
    upper left, upper right and lower left corner."""
    plane = PLANES[axis]
    sides = np.ptp(image.space.corners(), axis=0)
    wide, tall = float(sides[plane.right]), float(sides[plane.up])
    pixel = max(wide, tall, 1e-12) / MOST
    width, height = max(2, round(wide / pixel)), max(2, round(tall / pixel))
    view = through(fitted(plane, image.space, width, height, True, 0.0), plane, at)
    out = np.full((height, width), 0xFF0B1013, np.uint32)
    draw_over(view, [Drawn(image, look)], out)
    ends = ((-0.5, -0.5), (width - 0.5, -0.5), (-0.5, height - 0.5))
    return out, np.stack([view.to_world(x, y) for x, y in ends])
