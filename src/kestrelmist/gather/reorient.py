"""Bring the axes of a volume into the standard order without touching a value."""

from __future__ import annotations

from dataclasses import replace

from ..core.errors import Trouble
from ..core.image import Image
from ..core.operation import operation
from ..core.progress import Progress
from ..core.space import Space
from ..core.values import Stored
from ..formats.grid_facts import reordered


@operation(
    "gather",
    "Standard axis order",
    name="reorient",
    keywords="flip swap canonical RAS axes orientation standard orientation nibabel lps ras+",
    takes="series colour",
    group="This image",
)
def reorient(image: Image) -> Image:
    """Order the axes so that i runs to the right, j to the front and k up. Only flips and swaps: every voxel keeps its
    place and value.

    Raises
    ------
    Trouble
        When the axes run in the standard order already.
    """
    order, flips = standard_turn(image.space)
    if order == (0, 1, 2) and not any(flips):
        raise Trouble(f"“{image.name}” is in the standard order already", "nothing is to be done")
    space = turned_space(image.space, order, flips)

    def fetch(index: tuple[int, ...], progress: Progress):
        got = image.stored(index, progress)
        values = got.values.transpose(order)[tuple(slice(None, None, -1) if f else slice(None) for f in flips)]
        return values if image.colour else Stored(values, got.slope, got.intercept)

    return image.like(
        fetch, space=space, facts=reordered(image, order, flips, space), name=f"{image.name}, standard order"
    )


def standard_turn(space: Space) -> tuple[tuple[int, int, int], tuple[bool, bool, bool]]:
    """The old axis for each new one, and whether it is counted from its other end."""
    world = space.world_axis_of
    order = world.index(0), world.index(1), world.index(2)
    right, front, up = (bool(space.affine[n, order[n]] < 0) for n in range(3))
    return order, (right, front, up)


def turned_space(space: Space, order, flips) -> Space:
    """The space after a swap of axes and flips; every voxel keeps its world position."""
    affine = space.affine.copy()
    affine[:, :3] = space.affine[:, list(order)]
    i, j, k = (space.shape[n] for n in order)
    shape = i, j, k
    for n in range(3):
        if flips[n]:
            affine[:3, 3] += affine[:3, n] * (shape[n] - 1)
            affine[:3, n] *= -1
    return replace(space, shape=shape, affine=affine)
