"""Small pictures for the Shelf."""

from __future__ import annotations

import numpy as np

from ..core.image import Image
from .showing import for_showing

SIDE = 88


def thumbnail(image: Image) -> bytes:
    """A slice through the middle, SIDE × SIDE: one byte a pixel, or four (blue, green, red, unused) of a colour image.

    Coronal for a volume; a picture of one slice is shown face on. Of a series, the volume half-way.
    """
    from .drawing import Drawn, draw  # what draws is not loaded by who only lists images
    from .first_look import first_look
    from .view import PLANES, fitted

    image = for_showing(image.frame(tuple(a.size // 2 for a in image.axes)), 1 << 28)
    flat = image.space.flat_axis
    plane = next(p for p in PLANES if p.across == (1 if flat is None else flat))
    look = first_look(image)
    picture = draw(fitted(plane, image.space, SIDE, SIDE, margin=0.0), [Drawn(image, look)])
    coloured = image.colour or look.colour_map not in ("Grey", "Grey, inverted")
    return picture.tobytes() if coloured else (picture & 255).astype(np.uint8).tobytes()
