"""Small pictures for the Shelf."""

from __future__ import annotations

import numpy as np

from ..core.image import Image
from .colours import first_map
from .slices import ImageLook, draw
from .view import PLANES, fitted

SIDE = 88


def thumbnail(image: Image) -> bytes:
    """A slice through the middle, SIDE × SIDE: one byte a pixel, or four (blue, green, red, unused) of a colour image.

    Coronal for a volume; a picture of one slice is shown face on. Of a series, the volume half-way.
    """
    image = image.frame(tuple(a.size // 2 for a in image.axes)).for_showing(1 << 28)
    low, high = image.display_range()
    flat = image.space.flat_axis
    plane = next(p for p in PLANES if p.across == (1 if flat is None else flat))
    picture = draw(fitted(plane, image.space, SIDE, SIDE, margin=0.0), image, ImageLook(low, high, first_map(image)))
    return picture.tobytes() if image.colour else (picture & 255).astype(np.uint8).tobytes()
