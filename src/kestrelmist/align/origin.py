"""Set the origin of the world on a landmark."""

from __future__ import annotations

from ..core.image import Image
from ..core.operation import WorldPoint, operation
from ..core.space import Space


@operation("align", "Set the origin", name="set-origin", keywords="landmark zero position shift", takes="series colour")
def set_origin(image: Image, point: WorldPoint) -> Image:
    """Move an image so that a landmark comes to lie at world position (0, 0, 0). No value is resampled.

    Parameters
    ----------
    point : three mm
        World position of the landmark, at present.
    """
    affine = image.space.affine.copy()
    affine[:3, 3] -= point
    space = Space(image.space.shape, affine, image.space.unit, image.space.name)
    return image.placed(space, name=f"{image.name}, origin set")
