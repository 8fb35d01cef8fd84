"""Give an image the voxel size its file did not know."""

from __future__ import annotations

import numpy as np

from ..core.image import Image
from ..core.operation import Spacing, operation
from ..core.space import Space


@operation("prepare", "Set the voxel size", name="set-spacing", keywords="spacing scale calibrate missing", takes="series colour")
def set_spacing(image: Image, spacing: Spacing) -> Image:
    """Give an image another voxel size; directions and the middle of the grid stay where they are. No value is resampled.

    Parameters
    ----------
    spacing : three mm
        Voxel size along the image's own axes.
    """
    affine = image.space.affine.copy()
    affine[:3, :3] *= np.array(spacing) / np.array(image.space.spacing)
    affine[:3, 3] = image.space.centre - affine[:3, :3] @ ((np.array(image.space.shape) - 1) / 2)
    space = Space(image.space.shape, affine, "mm", image.space.name)
    return image.placed(space, name=f"{image.name}, voxel size set")
