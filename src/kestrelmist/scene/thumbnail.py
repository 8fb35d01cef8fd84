"""Small grey pictures for the Shelf."""

from __future__ import annotations

import numpy as np

from ..core.image import Image
from .slices import ImageLook, draw
from .view import CORONAL, fitted

SIDE = 88


def thumbnail(image: Image) -> bytes:
    """A coronal slice through the middle, SIDE × SIDE, one byte a pixel."""
    low, high = image.display_range()
    picture = draw(fitted(CORONAL, image.space, SIDE, SIDE, margin=0.0), image, ImageLook(low, high))
    return (picture & 255).astype(np.uint8).tobytes()
