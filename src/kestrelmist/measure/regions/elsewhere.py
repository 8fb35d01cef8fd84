"""Other images on the grid of the regions, so that the very same voxels are asked."""

from __future__ import annotations

from typing import Literal

import numpy as np

from ...core.errors import Trouble
from ...core.image import Image
from ...core.overlap import require_overlap
from ...core.progress import Progress, silent
from ...core.resampling import frame_between, resampled
from ...core.through import resampled_through

By = Literal["world", "voxel"]


def on_grid_of(image: Image, owner: Image, by: By, progress: Progress = silent()) -> np.ndarray:
    """Values of a volume [k, j, i] at the voxels of the image that regions are of: where these lie in the world,
    through the mapping by which the image is seen there, between voxels linearly and NaN outside; or voxel by voxel.

    Raises
    ------
    Trouble
        When the two do not overlap, lie in different worlds, or have not the same number of voxels.
    """
    space = owner.space
    if by == "voxel":
        if image.space.shape != space.shape:
            sizes = [" × ".join(map(str, shape)) for shape in (image.space.shape, space.shape)]
            what = f"“{image.name}” has {sizes[0]} voxels, and the regions lie on {sizes[1]}"
            raise Trouble(what, "let them go along by the world")
        return image.kji
    require_overlap(owner, image, None if image.through is None else image.through.inverse())
    if image.through is not None:
        return resampled_through(image.kji, image.space, space, image.through, progress=progress)
    if image.space.same_grid(space):
        return image.kji
    return resampled(image.kji, frame_between(image.space, space), space.shape, progress=progress)


def how_told(image: Image, owner: Image, by: By) -> str:
    """How regions came to an image, in words."""
    if image is owner:
        return "drawn here"
    return "voxel" if by == "voxel" else "mapping" if image.through is not None else "world"
