"""Images brought into another space through transforms."""

from __future__ import annotations

from typing import Annotated, Literal

from ...core.chain import in_a_row, leads
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
    here, there = onto.space.world, image.space.world
    through = in_a_row(transform, here, there)
    if not leads(through, here, there):
        raise Trouble(
            f"“{through.name}” leads from {through.source} to {through.target}, and “{onto.name}” lies in {here},"
            f" “{image.name}” in {there}",
            "choose the transform that joins these two",
        )
    return resample(image, onto, through=through, how=how, progress=progress)
