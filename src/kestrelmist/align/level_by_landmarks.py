"""Level an image by three landmarks: two along the middle, from front to back, and one more in the middle plane."""

from __future__ import annotations

import numpy as np

from ..core.errors import Trouble
from ..core.image import Image
from ..core.operation import operation
from ..core.parameter import WorldPoint
from ..core.placement import Placement
from ..formats.grid_facts import placed

THIN = 1e-3
"""Sine of the angle below which three landmarks lie on one line."""


@operation(
    "align",
    "Level by landmarks",
    name="level-by-landmarks",
    keywords=(
        "reorient tilt straighten anterior posterior commissure acpc midline midsagittal plane align axes "
        "landmark rotate horizontal"
    ),
    takes="series colour",
    called={"front": "Front point", "back": "Back point", "middle": "Point above"},
    group="This image",
    methods="Images were levelled by three landmarks, without resampling",
)
def level_by_landmarks(
    image: Image, front: WorldPoint, back: WorldPoint, middle: WorldPoint, *, origin: bool = True
) -> Placement:
    """Turn an image so that a line from a back landmark to a front one runs straight to the front, and the middle plane
    through both and a third one stands upright. No value is touched or copied.

    Parameters
    ----------
    front, back : three mm
        World positions of both, at present; such as two commissures.
    middle : three mm
        Above that line, anywhere in the middle plane.
    origin : bool
        Whether the front landmark comes to lie at (0, 0, 0); else it stays where it is.

    Raises
    ------
    Trouble
        When the three lie on one line, or two of them at one place.
    """
    ahead, up = np.asarray(front, float) - np.asarray(back, float), np.asarray(middle, float) - np.asarray(back, float)
    long, high = float(np.linalg.norm(ahead)), float(np.linalg.norm(up))
    if not long > 0 or not high > 0 or float(np.linalg.norm(np.cross(ahead, up))) < THIN * long * high:
        raise Trouble("The three landmarks lie on one line", "set the third one above the line from back to front")
    y = ahead / long
    z = up - (up @ y) * y
    z /= np.linalg.norm(z)
    turn = np.stack([np.cross(y, z), y, z])
    matrix = np.eye(4)
    matrix[:3, :3] = turn
    matrix[:3, 3] = (0.0 if origin else np.asarray(front, float)) - turn @ np.asarray(front, float)
    space = image.space.moved(matrix)
    facts = placed(image, space)
    return Placement(space, facts=None if facts == image.facts else facts)
