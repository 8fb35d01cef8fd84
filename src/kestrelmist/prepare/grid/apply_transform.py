"""Images brought into another space through transforms."""

from __future__ import annotations

from typing import Annotated, Literal

from ...core.chain import in_a_row
from ...core.errors import Trouble
from ...core.image import Image
from ...core.mapping import Mapping
from ...core.operation import operation
from ...core.parameter import Role
from ...core.progress import Progress, silent
from .resample import resample

Grid = Annotated[Image, Role("grid")]


@operation(
    "prepare",
    "Bring through transforms",
    name="apply-transform",
    keywords="apply transform warp resample register deform normalise spatial normalisation reslice",
    takes="series",
    group="Grid",
    called={"how": "Interpolation", "onto": "Onto grid of"},
    methods="Images were brought through transforms with one interpolation ({how})",
)
def apply_transform(
    image: Image,
    transform: list[Mapping],
    onto: Grid,
    *,
    how: Literal["nearest", "linear", "cubic", "sinc"] = "cubic",
    progress: Progress = silent(),
) -> Image:
    """Bring an image into another space, onto the grid of an image there. Values are interpolated once, however many
    transforms it is made of.

    Parameters
    ----------
    transform : transforms
        One that joins the two spaces, either way round: what it says of them tells which way is meant. Where it says
        nothing, it leads from the grid to the image, as ITK has it. Of several the first one starts at the grid, and
        each goes on where the one before has led.
    onto : image
        Its grid is taken.
    how : text
        Nearest, linear, cubic B-spline or a windowed sinc; the last only through an affine transform.

    Returns
    -------
    Image
        float32; what lies beyond the image, or is not reached, has no value.

    Raises
    ------
    Trouble
        When the transform joins other spaces, several do not meet, or they do not overlap through it.
    """
    through = in_a_row(transform, onto.space.world)
    return resample(image, onto, through=_towards(through, onto, image), how=how, progress=progress)


def _towards(transform: Mapping, onto: Image, image: Image) -> Mapping:
    """The transform as leading from the world of the grid to that of the image."""
    here, there = onto.space.world, image.space.world
    ways = ((transform.source, here), (transform.target, there), (transform.source, there), (transform.target, here))
    fits = [not end.id or not world.id or end.is_one_with(world) for end, world in ways]
    if fits[0] and fits[1]:
        return transform
    if fits[2] and fits[3]:
        return transform.inverse()
    raise Trouble(
        f"“{transform.name}” leads from {transform.source} to {transform.target}, and “{onto.name}” lies in {here},"
        f" “{image.name}” in {there}",
        "choose the transform that joins these two",
    )
