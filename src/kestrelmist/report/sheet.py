"""A contact sheet: many slices of an image, or of several, on one page."""

from __future__ import annotations

from contextlib import nullcontext
from dataclasses import replace
from typing import Annotated, Literal

import numpy as np

from ..core.digits import signed
from ..core.errors import Trouble
from ..core.geometry.marks import Marks
from ..core.image import Image
from ..core.kernel import used_here
from ..core.labels import LabelMap
from ..core.left_out import LeftOut, SeenFrom
from ..core.operation import operation
from ..core.overlap import require_overlap
from ..core.parameter import Between, ImageValue, NewPath, Unit
from ..core.progress import Progress, silent
from ..core.quantity import pretty_unit
from ..core.safe_write import require_new
from ..core.table import Column, Table
from ..scene.compare import Comparison
from ..scene.first_look import first_look, over_look, over_opacity
from ..scene.laid import LaidStack
from ..scene.layer import LabelLook
from ..scene.layer_type import Drawn, type_of_thing
from ..scene.painting import painter_for, write_page
from ..scene.primitives import Page
from ..scene.sheet.page import Laid, sheet_page
from ..scene.sheet.plan import MOST, SheetPlan, SheetStack
from ..scene.solid.eye import Camera
from ..scene.solid.rendering import drawing, packed
from .made_how import caption_of, facts_of_planes
from .numbers import numbers_of
from .paper import INCH, LETTERS
from .picture import Slab, SlabWay, ranged, slabbed
from .scene_choice import AS_USUAL, Given, scene_for

Share = Annotated[float, Between(0, 1)]
GROUP = "Pictures"
MANY = 16
"""Slices for which it is worth waiting until what draws is compiled."""


@operation(
    "report",
    "Contact sheet",
    name="sheet",
    keywords="contact sheet montage mosaic lightbox many slices multi-slice figure page tiled gallery",
    takes="colour",
    called={
        "over": "Over it",
        "also": "More subjects",
        "at": "Positions",
        "every": "Steps of",
        "within": "Over the label",
        "low": "From value",
        "high": "To value",
        "over_low": "Over: from",
        "over_high": "Over: to",
        "over_colours": "Over: colours",
        "below_colours": "Below zero",
        "slab": "Slab",
        "slab_way": "Of the slab",
        "compare": "Laid",
        "left_on_left": "Left on left",
        "named": "Names of subjects",
        "width": "Wide",
        "dpi": "Dots an inch",
        "written": "Positions and bar",
        "replace_file": "In place of another",
    },
    rare=(
        "at every start end within low high colours slab slab_way over_low over_high over_colours below_colours "
        "opacity compare share left_on_left named gap letters written bars locator trim stacks replace_file"
    ),
    group=GROUP,
    once=("contact-sheet",),
)
def sheet(
    image: Image | None = None,
    *,
    to: NewPath,
    over: Annotated[list[Image] | None, SeenFrom("image")] = None,
    labels: LabelMap | None = None,
    marks: list[Marks] | None = None,
    also: list[Image] | None = None,
    stacks: list[LaidStack] | None = None,
    plane: str = "axial",
    count: Annotated[int, Between(1, MOST)] = 12,
    every: Annotated[float | None, Unit("mm"), Between(1e-9, 1e6), LeftOut("by their number")] = None,
    at: str = "",
    start: Annotated[float | None, Unit("mm"), LeftOut("where the subject begins")] = None,
    end: Annotated[float | None, Unit("mm"), LeftOut("where it ends")] = None,
    within: str = "",
    columns: Annotated[int | None, Between(1, MOST), LeftOut("by the page")] = None,
    gap: Annotated[float, Between(-0.8, 2)] = 0.02,
    ground: Literal["dark", "light"] = "dark",
    trim: bool = True,
    rendering: bool = False,
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
    left_on_left: bool = True,
    named: bool = False,
    letters: bool = True,
    written: bool = True,
    bars: bool = True,
    locator: bool = True,
    width: Annotated[float, Unit("mm"), Between(5, 2000)] = 174.0,
    dpi: Annotated[float, Between(20, 2400)] = 300.0,
    replace_file: bool = False,
    progress: Progress = silent(),
) -> Table:
    """Write slices of an image on one page, with what lies over it, labels and marks; where they cut, positions, side
    letters, a scale bar and colour bars.

    Parameters
    ----------
    to : path
        A new file: .png, .jpg, .tif, .svg or .pdf.
    over : images
        Laid over it, the first one lowest.
    also : images
        More subjects, one below the other, at the same places of the world.
    stacks : stacks
        Saved stacks, side by side in each place; they stand for the image and what lies over it.
    plane : text
        axial, coronal or sagittal; several with commas between them, each on rows of its own.
    count : whole number
        Slices of each plane, at even steps.
    every : mm
        Steps between slices, in place of their number.
    at : text
        Positions in mm, with commas between them, in place of both.
    start, end : mm
        Between which slices lie.
    within : text
        Slices lie over the extent of this label.
    columns : whole number
        Slices of a row.
    gap : number
        Between slices, as a share of their width; below zero they overlap.
    ground : text
        Of the page.
    trim : bool
        Slices are cut to the subject.
    rendering : bool
        A picture of the solid view stands beside them.
    low, high : values
        Range that the colours span; chosen from the values when left out.
    colours : text
        Colour map of the image.
    slab, slab_way : mm, text
        Highest, lowest or mean values of so much across each slice.
    over_low, over_high : values
        Range of what lies over it; what is nearer to zero than the lower one is not drawn.
    over_colours, below_colours : text
        Its colour maps above and below zero.
    opacity : number
        Of what lies over it.
    compare, share : text, number
        How that is seen, as in “Picture of a plane”.
    left_on_left : bool
        The subject's left on the picture's left.
    named : bool
        Whose each row is stands over it: that tells of somebody.
    letters, written, bars, locator : bool
        Letters of sides; positions and scale bar; colour bars; a slice that shows where they cut.
    width : mm
        Of the page on paper.
    dpi : number
        Pixels to an inch; said in the file.
    replace_file : bool
        Take the place of a file of that name.

    Returns
    -------
    Table
        Each slice with its plane and place.

    Raises
    ------
    Trouble
        When places, planes or ranges are none, images lie in other worlds, slices would be too small, or the file
        cannot be written.
    """
    painter_for(to)
    require_new(to, replace_file)
    if image is None and not stacks:
        raise Trouble("A sheet is that of an image or of stacks", "name one of them", to)
    number = 0
    if within.strip():
        if labels is None:
            raise Trouble("Slices are to lie over a label, and no labels are given", "name the label map", to)
        number = labels.table.named(within).number
    plan = SheetPlan(
        tuple(word.strip().lower() for word in plane.split(",") if word.strip()) or ("axial",),
        count,
        every or 0.0,
        numbers_of(at),
        start,
        end,
        number,
        columns or 0,
        gap,
        ground == "light",
        trim,
        letters,
        written,
        bars,
        locator,
        left_on_left,
    )

    def stack_of(lead: Image, with_layers: bool) -> SheetStack:
        own = first_look(lead) if lead.colour else ranged(first_look(lead), low, high, colours)
        layers = [Drawn(lead, slabbed(own, slab, slab_way))]
        for one in (over or []) if with_layers else []:
            require_overlap(lead, one)
            look = ranged(over_look(one), over_low, over_high, over_colours, below_colours)
            layers.append(Drawn(one, look, over_opacity(look) if opacity is None else opacity))
        if labels is not None and with_layers:
            layers.append(Drawn(labels, LabelLook()))
        for drawn in (marks or []) if with_layers else []:
            dots = type_of_thing(drawn).first(drawn, True)[0]
            layers.append(Drawn(drawn, replace(dots, thickness=max(lead.space.spacing))))
        return SheetStack(layers, labels if with_layers else None, (lead.subject or lead.name) if named else "")

    if stacks:
        subjects = [[SheetStack(one.layers, labels, "") for one in stacks]]
        how = stacks[0].how
    else:
        assert image is not None
        subjects = [[stack_of(image, True)], *([stack_of(one, False)] for one in also or [])]
        how = Comparison(compare, share)
    pixels = max(64, round(width / INCH * dpi))
    scale = LETTERS / (INCH / dpi)
    beside = _rendered(subjects[0][0], labels, progress.part(0.0, 0.5)) if rendering else None

    def stop(done: float) -> None:
        progress.at(0.5 + 0.4 * done)

    with used_here() if count >= MANY else nullcontext():
        page, laid = sheet_page(subjects, plan, pixels, scale, how, beside, stop)
    progress.at(0.9, "Writing")
    lead = subjects[0][0].image
    write_page(_told(page, laid, subjects[0][0], INCH / dpi), to)
    unit = lead.space.unit
    table = Table(f"Contact sheet of {lead.name}", [Column("slice"), Column("plane"), Column("at", unit, 3)])
    table.columns += [Column("pixel", unit, 5), Column("file")]
    for n, (across, where) in enumerate(laid.places, 1):
        table.rows.append((n, across.name.lower(), where, laid.pixel, to.name))
    return table


def _told(page: Page, laid: Laid, stack: SheetStack, millimetres: float) -> Page:
    """The page with what is known of how it was made."""
    lead = stack.image
    unit = pretty_unit(lead.space.unit)
    by_plane: dict[str, list[str]] = {}
    for plane, where in laid.places:
        by_plane.setdefault(plane.name.lower(), []).append(signed(where, 2).strip())
    position = "; ".join(f"{name} {', '.join(places)} {unit}" for name, places in by_plane.items())
    facts = facts_of_planes(lead, [d for d in stack.layers if isinstance(d.thing, Image)], position, laid.pixel)
    size = (laid.pixel, lead.space.unit)
    return Page(page.ground, page.over, page.scale, millimetres, lead.name, facts, caption_of(facts), size)


def _rendered(stack: SheetStack, labels: LabelMap | None, progress: Progress) -> np.ndarray:
    scene, things = scene_for(stack.image, AS_USUAL, Given([labels] if labels is not None else []))
    with drawing(scene, things.__getitem__, progress) as drawn:
        pixels, _ = drawn.picture(Camera(), 600, 520, False, progress)
    return packed(pixels)
