"""Give an image the voxel size its file did not know."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ...core.caveat import (
    NO_SCALE,
    SCALE_BY_HAND,
    SCALE_DISAGREES,
    SCALE_UNSURE,
    SIDES_NOT_GIVEN,
    SIDES_UNKNOWN,
    Caveat,
    has_caveat,
)
from ...core.image import Image
from ...core.operation import operation
from ...core.parameter import Spacing
from ...core.placement import Placement
from ...core.scale import FACT


@operation(
    "prepare",
    "Set the voxel size",
    name="set-spacing",
    keywords="spacing scale calibrate missing voxel size pixel size resolution calibration dpi",
    takes="series colour",
    group="Grid",
)
def set_spacing(image: Image, spacing: Spacing) -> Placement:
    """Give an image another voxel size; directions and the middle of the grid stay. No value is touched or copied.

    Parameters
    ----------
    spacing : three mm
        Voxel size along the image's own axes.
    """
    space = image.space
    affine = space.affine.copy()
    affine[:3, :3] *= np.array(spacing) / np.array(space.spacing)
    affine[:3, 3] = space.centre - affine[:3, :3] @ ((np.array(space.shape) - 1) / 2)
    doubts = [Caveat(SCALE_BY_HAND, "The voxel size was set by hand")]
    if has_caveat(image.caveats, SIDES_UNKNOWN, SCALE_UNSURE):  # a size says nothing of sides
        doubts.append(Caveat(SIDES_NOT_GIVEN, "Which side is which is not known"))
    settled = (NO_SCALE, SCALE_UNSURE, SCALE_BY_HAND, SCALE_DISAGREES, SIDES_UNKNOWN)
    facts = {name: value for name, value in image.facts.items() if name != FACT}  # no calibration is used any more
    return Placement(replace(space, affine=affine, unit="mm"), settled, tuple(doubts), facts)
