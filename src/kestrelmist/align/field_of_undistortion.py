"""What a field off resonance does to a series, as a transform, to be undone with all other steps at once."""

from __future__ import annotations

from typing import Literal

import numpy as np

from ..core.displacement import DisplacementField
from ..core.errors import Trouble
from ..core.image import Image
from ..core.mapping import Mapping
from ..core.operation import operation


@operation(
    "align",
    "Undistortion as a transform",
    name="field-of-undistortion",
    keywords="distortion correction chain one interpolation displacement field epi unwarp concatenate voxel shift map",
    called={"image": "Shift (voxels)", "along": "Along"},
    group="Transforms",
    methods="Distortion was undone together with all other steps, with one interpolation",
    cites=("Jezzard 1995",),
)
def field_of_undistortion(image: Image, *, along: Literal["i", "j", "k"] = "j") -> Mapping:
    """The transform from where things are to where a distorted series has them, from the shift that “Undistort” gives.

    In a chain from a standard space or the anatomy it comes last, and the series as it was measured is brought through
    all of them with one interpolation. Signal that was piled up or drawn out is not set right by it.

    Parameters
    ----------
    image : image
        By how many voxels each place had been shifted, on the grid of the series; from “Undistort”.
    along : text
        Axis of the image along which its lines were read.

    Returns
    -------
    Mapping
        A displacement field within the space of the series.

    Raises
    ------
    Trouble
        When the shift has several volumes, missing values, or is in another unit than voxels.
    """
    if image.axes:
        raise Trouble(f"“{image.name}” is a series, and one volume of shifts is wanted", "choose one, as in name@1")
    if image.unit not in ("voxels", "voxel", ""):
        raise Trouble(
            f"“{image.name}” is in {image.unit}, and shifts in voxels are wanted", "choose that of “Undistort”"
        )
    shift = np.asarray(image.data, np.float32)
    if not np.isfinite(shift).all():
        raise Trouble(f"Some shifts of “{image.name}” are no numbers", "fill them first (“Calculate”)")
    step = image.space.affine[:3, "ijk".index(along)].astype(np.float32)
    name = image.name.removesuffix(", shift")
    world = image.space.world
    return DisplacementField(shift[..., None] * step, image.space, world, world, f"{name}, undistortion", image.subject)
