"""A picture of a solid scene, written without a window."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from ..core.errors import Trouble
from ..core.geometry.marks import Marks
from ..core.image import Image
from ..core.labels import LabelMap
from ..core.operation import operation
from ..core.parameter import Between, NewPath, Unit
from ..core.progress import Progress, silent
from ..core.safe_write import require_new
from ..core.surface.surface import Surfaces
from ..core.table import Column, Table
from ..scene.painting import painter_for, write_page
from ..scene.primitives import Page
from ..scene.solid.eye import START, Camera
from ..scene.solid.figure import cube, scale
from ..scene.solid.rendering import drawing, packed
from ..scene.solid.scene import Solid
from .made_how import caption_of, facts_of_scene
from .paper import NO_PAPER, Paper
from .picture import size_of
from .plane_page import USUAL
from .scene_choice import AS_USUAL, CALLED, RARE, Given, SceneChoice, require_seen, scene_for

Angle = Annotated[float, Unit("deg"), Between(-360, 360)]
Side = Literal["", "front", "back", "left", "right", "top", "bottom"]
LONGEST = 8000
"""Pixels along a side."""


@operation(
    "report",
    "Picture of the solid view",
    name="render",
    keywords=(
        "3d three-dimensional surface volume rendering mesh screenshot labels scene solid view picture transparent "
        "background high resolution"
    ),
    called=CALLED
    | {
        "others": "More label maps",
        "volumes": "More volumes",
        "from_": "From",
        "turn": "Turned by",
        "tilt": "From above",
        "clear": "Transparent ground",
        "written": "Cube and bar",
        "parallel": "Parallel",
        "columns": "On paper",
        "wide": "Or so wide",
        "dpi": "Dots an inch",
        "replace_file": "In place of another",
    },
    rare=f"roll zoom {RARE} clear written columns wide dpi parallel replace_file",
    group="Pictures",
    once=("solid-picture",),
)
def render(
    image: Image,
    labels: LabelMap | None = None,
    others: list[LabelMap] | None = None,
    *,
    to: NewPath,
    volumes: list[Image] | None = None,
    surfaces: list[Surfaces] | None = None,
    marks: list[Marks] | None = None,
    choice: SceneChoice = AS_USUAL,
    size: str = "900x700",
    from_: Side = "",
    turn: Angle = START[0],
    tilt: Annotated[float, Unit("deg"), Between(-90, 90)] = START[1],
    roll: Angle = 0.0,
    zoom: Annotated[float, Between(0.1, 50)] = 1.0,
    parallel: bool = False,
    clear: bool = False,
    written: bool = True,
    paper: Paper = NO_PAPER,
    replace_file: bool = False,
    progress: Progress = silent(),
) -> Table:
    """Write a picture of an image as a volume, of labels as surfaces inside its pale outline, of surfaces and marks, or
    of a height map as a surface.

    Parameters
    ----------
    others : label maps
        Drawn in the same scene.
    to : path
        A new file: .png, .jpg, .tif, .svg or .pdf.
    volumes : images
        Drawn as volumes in the same scene.
    size : text
        Width and height in pixels, up to 8000 along a side; where a width on paper is given, as they stand to one
        another.
    from_ : text
        One of the six sides, in place of the angles.
    turn : degrees
        Round the up axis; 0 looks from the front.
    tilt : degrees
        Above the horizon.
    roll : degrees
        Clockwise.
    zoom : number
        2 is twice as near.
    parallel : bool
        What is far is as large as what is near, with a scale bar.
    clear : bool
        The ground is transparent: in .png and .tif.
    written : bool
        The cube that says which side is which, and the scale bar.
    replace_file : bool
        Take the place of a file of that name.

    Returns
    -------
    Table
        What is in the scene, with numbers of triangles.

    Raises
    ------
    Trouble
        When there is nothing to be seen, things lie in other worlds, nobody knows the look, or the file cannot be
        written.
    """
    painter_for(to)
    require_new(to, replace_file)
    width, height = paper.pixels(size_of(size))
    if max(width, height) > LONGEST:
        raise Trouble(f"A picture of {width} × {height} pixels is too large", f"ask for {LONGEST} along a side at most")
    if clear and to.suffix.lower() not in (".png", ".tif", ".tiff"):
        raise Trouble(f"A {to.suffix} file has no transparent ground", "name a .png or .tif", to)
    maps = [one for one in (labels, *(others or ())) if one is not None]
    scene, things = scene_for(image, choice, Given(maps, volumes or (), surfaces or (), marks or ()))
    camera = Camera(turn, tilt, zoom, roll, choice.across, choice.up, parallel)
    camera = camera.side(from_) if from_ else camera
    with drawing(scene, things.__getitem__, progress.part(0.0, 0.7), choice.quality) as drawn:
        progress.at(0.7, "Drawing")
        pixels, eye = drawn.picture(camera, width, height, clear, progress)
        triangles = dict(drawn.triangles)
        require_seen(image, scene, triangles)
    units = paper.scale or max(1.0, min(width, height) / USUAL)
    over = []
    if written:
        flat = width / units, height / units
        over = cube(eye.resized(round(flat[0]), round(flat[1])), *flat, image.space.sides_known)
        over += scale(eye, *flat, image.space.unit, units)
    facts = facts_of_scene(image, scene, things, eye)
    page = Page(
        *(packed(pixels), over, units, paper.millimetres, image.name, facts, caption_of(facts)),
        pixel=(eye.pixel, image.space.unit) if parallel else None,
    )
    write_page(page, to)
    return told(image, scene, things, triangles, to.name)


def told(image: Image, scene: Solid, things: dict, triangles: dict[tuple, int], file: str) -> Table:
    """What is in a scene, as a table."""
    table = Table(f"Solid view of {image.name}", [Column("part"), Column("triangles"), Column("file")])
    for body in scene.bodies:
        thing = things[body.thing]
        named: Any = thing.table.get(body.part) if isinstance(thing, LabelMap) else None
        if isinstance(thing, Surfaces):
            named = thing.parts[body.part]
        name = named.name if named is not None else thing.name
        table.rows.append((name, triangles.get(body.key, 0), file))
    return table
