"""Set the origin of the world on a landmark."""

from __future__ import annotations

import numpy as np

from ..core.image import Image
from ..core.operation import operation
from ..core.parameter import WorldPoint
from ..core.placement import Placement


@operation(
    "align",
    "Set the origin",
    name="set-origin",
    keywords="landmark zero position shift landmark anterior commissure re-origin",
    takes="series colour",
    group="This image",
    methods="The origin was set on a landmark",
)
def set_origin(image: Image, point: WorldPoint) -> Placement:
    """Move an image so that a landmark comes to lie at world position (0, 0, 0). No value is touched or copied.

    Parameters
    ----------
    point : three mm
        World position of the landmark, at present.
    """
    shift = np.eye(4)
    shift[:3, 3] = -np.asarray(point, float)
    return Placement(image.space.moved(shift))
