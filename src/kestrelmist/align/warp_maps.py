"""How far a transform moves every place, and how much it stretches there, as images."""

from __future__ import annotations

from typing import Annotated, NamedTuple

import numpy as np

from ..core.errors import Trouble
from ..core.field_from import field_over
from ..core.image import Image
from ..core.mapping import Mapping
from ..core.operation import operation
from ..core.parameter import Role
from ..core.progress import Progress, silent

Grid = Annotated[Image, Role("grid")]


class WarpMaps(NamedTuple):
    """Jacobian, and length of the shift (mm)."""

    jacobian: Image
    shift: Image


@operation(
    "align",
    "Maps of a transform",
    name="warp-maps",
    keywords="jacobian determinant deformation volume change atrophy growth warp size map tensor based morphometry",
    called={"image": "On grid of"},
    group="Transforms",
    methods="The Jacobian of transforms was worked out at every voxel",
)
def warp_maps(image: Grid, transform: Mapping, *, progress: Progress = silent()) -> WarpMaps:
    """How much a transform stretches every place of a grid, and how far it moves it.

    Parameters
    ----------
    image : image
        Its grid is taken; it lies where the transform starts from.

    Returns
    -------
    jacobian : Image
        By how many times a small volume (of a picture, an area) grows; 0 or less where space is folded.
    shift : Image
        mm.

    Raises
    ------
    Trouble
        When the image lies in another space, or the transform says nothing of half of it.
    """
    world = image.space.world
    if world.id and transform.source.id and not world.is_one_with(transform.source):
        raise Trouble(
            f"“{transform.name}” starts from {transform.source}, and “{image.name}” lies in {world}",
            "choose an image of the space that it starts from",
        )
    field, _ = field_over(transform, image.space, progress.part(0.0, 0.8))
    shifts = field.shifts.astype(np.float64)
    axes = [n for n, size in enumerate(image.space.shape) if size > 1]
    if not axes:
        raise Trouble(f"“{image.name}” has one voxel, and nothing is stretched between others", "choose a larger one")
    # by how much the way to the next voxel grows along each axis of the grid, in voxels of it
    grown = np.zeros((*image.space.shape, 3, 3))
    grown[..., range(3), range(3)] = 1.0
    for axis in axes:
        grown[..., axis] += np.gradient(shifts, axis=axis) @ image.space.inverse[:3, :3].T
    jacobian = np.linalg.det(grown).astype(np.float32)
    plain: dict = {"unit": "", "subject": transform.subject or image.subject}
    length = np.linalg.norm(shifts, axis=-1).astype(np.float32)
    return WarpMaps(
        Image(jacobian, image.space, f"{transform.name}, Jacobian", **plain),
        Image(length, image.space, f"{transform.name}, shift", **(plain | {"unit": image.space.unit})),
    )
