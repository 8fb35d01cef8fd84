"""A picture of one plane, as a pane shows it, written without a window."""

from __future__ import annotations

import re
from dataclasses import replace
from pathlib import Path
from typing import Annotated, Any, Literal

from ..core.digits import decimals_for
from ..core.errors import Trouble
from ..core.geometry.marks import Marks
from ..core.image import Image
from ..core.labels import LabelMap
from ..core.left_out import SeenFrom
from ..core.operation import operation
from ..core.overlap import apart, require_overlap
from ..core.parameter import Between, ImageValue, Millimetres, NewPath, Unit
from ..core.table import Column, Table
from ..scene.colours import MAPS
from ..scene.compare import Comparison
from ..scene.first_look import first_look, over_look, over_opacity
from ..scene.laid import LaidStack
from ..scene.layer import ImageLook
from ..scene.layer_type import Drawn
from ..scene.painting import painter_for, write_page
from ..scene.view import AXIAL, CORONAL, SAGITTAL, fitted
from .paper import NO_PAPER, Paper
from .plane_page import PlaneLayers

PLANES = {"axial": AXIAL, "coronal": CORONAL, "sagittal": SAGITTAL}
MOST_PIXELS = 100_000_000
Slab = Annotated[float, Unit("mm"), Between(0, 1e6)]
SlabWay = Literal["highest", "lowest", "mean"]
Share = Annotated[float, Between(0, 1)]


@operation(
    "report",
    "Picture of a plane",
    name="picture",
    keywords=(
        "figure png export layers overlay screenshot save picture montage export figure snapshot save image "
        "jpeg tiff scale bar svg pdf vector graphics"
    ),
    takes="colour",
    called={
        "at": "Position",
        "over": "Over it",
        "low": "From",
        "high": "To",
        "over_low": "Over: from",
        "over_high": "Over: to",
        "over_colours": "Over: colours",
        "below_colours": "Below zero",
        "compare": "Laid",
        "written": "Letters and bars",
        "square": "Squares",
        "slab": "Slab",
        "slab_way": "Of the slab",
        "share": "Share seen",
        "left_on_left": "Left on left",
        "columns": "On paper",
        "wide": "Or so wide",
        "dpi": "Dots an inch",
    },
    rare="slab slab_way columns wide dpi over_low over_high over_colours below_colours opacity compare share square",
    group="Pictures",
)
def picture(
    image: Image | None = None,
    *,
    to: NewPath,
    plane: Literal["axial", "coronal", "sagittal"] = "axial",
    at: Millimetres | None = None,
    stack: LaidStack | None = None,
    over: Annotated[list[Image] | None, SeenFrom("image")] = None,
    labels: LabelMap | None = None,
    marks: list[Marks] | None = None,
    size: str = "900x700",
    low: ImageValue | None = None,
    high: ImageValue | None = None,
    colours: str = "",
    slab: Slab = 0.0,
    slab_way: SlabWay = "highest",
    over_low: ImageValue | None = None,
    over_high: ImageValue | None = None,
    over_colours: str = "",
    below_colours: str = "",
    opacity: Share | None = None,
    compare: Literal["over", "fade", "swipe", "squares", "edges"] = "over",
    share: Share = 0.5,
    square: Annotated[float, Unit("mm"), Between(1e-9, 1e6)] = 5.0,
    left_on_left: bool = True,
    written: bool = True,
    paper: Paper = NO_PAPER,
) -> Table:
    """Write a picture of one plane through an image, with others over it by world position, and labels.

    Parameters
    ----------
    to : path
        A new file: .png, .jpg or .tif; .svg and .pdf keep lines and words as such.
    stack : stack
        One that was saved in the window, or a JSON file that describes one; it stands for image, layers and looks.
    plane : text
        Which plane of the world.
    at : mm
        Where the plane lies along the axis across it; in the middle of the image when left out.
    over : images
        Images laid over it, the first one lowest.
    labels : label map
        Labels drawn on top, filled with edges.
    marks : marks
        Drawn over it: those that lie in the plane's slice.
    size : text
        Width and height in pixels; where a width on paper is given, as they stand to one another.
    low, high : values
        Range that the colours span; chosen from the values when left out.
    colours : text
        Colour map of the image; a first one when left out.
    slab, slab_way : mm, text
        Highest, lowest or mean values of so much across the plane, in place of one slice.
    over_low, over_high : values
        Range of the images over it; what is nearer to zero than the lower one is not drawn.
    over_colours, below_colours : text
        Their colour maps above and below zero.
    opacity : number
        Of the images over it, 0 to 1; when left out, maps with values on both sides of zero are opaque, others not.
    compare : text
        Lay over, fade by `share`, wipe from the right up to `share`, in squares, or by the edges of those above.
    square : mm
        Side of the squares.
    share : number
        How much of the images over it is seen, 0 to 1.
    left_on_left : bool
        The subject's left on the picture's left, as seen from above the head.
    written : bool
        Side letters, scale bar, the plane's position, and colour bars with units and names.

    Returns
    -------
    Table
        What the picture shows: plane, place, size of a pixel.

    Raises
    ------
    Trouble
        When a colour map or the size is none, the plane lies outside the image, images lie in other worlds, or the file
        cannot be written.
    """
    target = Path(to)
    painter_for(target)
    if target.exists():
        raise Trouble("There is something of this name already", "name a new file", target)
    width, height = paper.pixels(size_of(size))
    if width * height > MOST_PIXELS:
        raise Trouble(
            f"This picture would have {width * height // 10**6} megapixels", "give fewer dots an inch", target
        )
    others = over or []
    if (image is None) == (stack is None):
        raise Trouble("A picture is that of an image or of a stack", "name one of them", target)
    image = stack.lead if stack is not None else image
    assert image is not None
    for one in others:
        require_overlap(image, one)
    in_stack = [one.thing for one in stack.layers if isinstance(one.thing, Marks)] if stack is not None else []
    for drawn in [*(marks or []), *in_stack]:
        here, there = drawn.world, image.space.world
        if here.id and there.id and not here.is_one_with(there):
            raise apart(drawn.name, here, image.name, there)
        if drawn.unit != image.space.unit:
            what = f"“{drawn.name}” is in {drawn.unit or 'no unit'}, “{image.name}” in {image.space.unit}"
            raise Trouble(what, "take the marks onto the image first")
    for name in (colours, over_colours, below_colours):
        if name and name not in MAPS:
            raise Trouble(f"There is no colour map “{name}”", f"choose one of: {', '.join(MAPS)}")
    chosen = PLANES[plane]
    view = fitted(chosen, image.space, width, height, left_on_left or not image.space.sides_known)
    centre = list(view.centre)
    corners = image.space.corners()[:, chosen.across]
    centre[chosen.across] = float(corners.mean()) if at is None else float(at)
    if not corners.min() <= centre[chosen.across] <= corners.max():
        where = f"{corners.min():.4g} to {corners.max():.4g} {image.space.unit}"
        raise Trouble(f"The plane at {at:g} lies outside “{image.name}”", f"choose a place from {where}")
    view = view.moved(centre=tuple(centre))
    lower, upper, how = [Drawn(image, slabbed(ranged(first_look(image), low, high, colours), slab, slab_way))], [], None
    if stack is not None:
        lower, upper, how = [stack.layers[0]], list(stack.layers[1:]), stack.how
    for one in others:
        look = ranged(over_look(one), over_low, over_high, over_colours, below_colours)
        upper.append(Drawn(one, look, over_opacity(look) if opacity is None else opacity))
    how = how or Comparison(compare, share, square)
    layers = PlaneLayers(lower, upper, how, labels, marks or ())
    write_page(layers.page(view, written, paper), target)
    unit = image.space.unit
    table = Table(f"Picture of {image.name}", [Column("file"), Column("plane"), Column("at", unit, 3)])
    table.columns += [Column("pixel", unit, decimals_for(0.0, view.pixel) + 3), Column("layers")]
    table.rows.append((target.name, plane, centre[chosen.across], view.pixel, ", ".join(layers.names)))
    return table


def slabbed(look: ImageLook, thick: float, way: str) -> ImageLook:
    """A look as a slab, where one is asked for."""
    return replace(look, slab=thick, slab_way=way) if thick > 0 else look


def size_of(text: str) -> tuple[int, int]:
    found = re.fullmatch(r"\s*(\d+)\s*[x×,]\s*(\d+)\s*", text)
    wide, high = map(int, found.groups()) if found else (0, 0)
    if wide * high > MOST_PIXELS:
        raise Trouble(f"A picture of {wide} × {high} pixels is too large", f"ask for {MOST_PIXELS:,} in all at most")
    if wide < 16 or high < 16:
        raise Trouble(f"“{text[:40]}” is no size of a picture", "give width and height in pixels, as in 900x700")
    return wide, high


def ranged(look: ImageLook, low: float | None, high: float | None, colours: str, below: str = "") -> ImageLook:
    """A look with what a person has given in place of what was chosen; raises Trouble when the range is none."""
    given: dict[str, Any] = {"low": low, "high": high, "colour_map": colours or None, "below_map": below or None}
    made = replace(look, **{name: value for name, value in given.items() if value is not None})
    if below and look.below_map is None and low is None:
        made = replace(made, low=0.0)
    if made.low > made.high:
        raise Trouble(f"The range from {made.low:g} to {made.high:g} is none", "give the lower value first")
    if made.below_map is not None:
        return replace(made, hide_below=None)
    return made if look.hide_below is None else replace(made, hide_below=made.low)
