"""A picture of a solid scene, written without a window."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, Any, Literal, get_args

from ..core.errors import Trouble
from ..core.geometry.marks import Marks
from ..core.image import Image
from ..core.labels import LabelMap
from ..core.left_out import LeftOut
from ..core.operation import operation
from ..core.overlap import apart
from ..core.parameter import Between, NewPath, Unit
from ..core.progress import Progress, silent
from ..core.safe_write import require_new
from ..core.surface.surface import Surfaces
from ..core.table import Column, Table
from ..scene.first_look import first_look
from ..scene.painting import painter_for, write_page
from ..scene.primitives import Page
from ..scene.solid.eye import START, Camera
from ..scene.solid.figure import cube, scale
from ..scene.solid.look_text import look_from
from ..scene.solid.ready_looks import first_name
from ..scene.solid.rendering import drawing, packed
from ..scene.solid.scene import MESH, OUTLINE, RELIEF, SURFACE, Ends, Plane, Solid
from ..scene.solid.shown import ANY, QUALITIES, Around, Shown, scene_of
from .made_how import caption_of, facts_of_scene
from .numbers import numbers_of
from .paper import NO_PAPER, Paper
from .picture import size_of
from .plane_page import USUAL

Angle = Annotated[float, Unit("deg"), Between(-360, 360)]
Quality = Literal["quick", "usual", "finest"]
assert get_args(Quality) == QUALITIES
Side = Literal["", "front", "back", "left", "right", "top", "bottom"]
LONGEST = 8000
"""Pixels along a side."""
BodyAs = Literal["outline", "volume", "none"] | None


@operation(
    "report",
    "Picture of the solid view",
    name="render",
    keywords=(
        "3d three-dimensional surface volume rendering mesh screenshot labels scene solid view picture transparent "
        "background high resolution"
    ),
    called={
        "others": "More label maps",
        "volumes": "More volumes",
        "image_as": "Image as",
        "from_": "From",
        "turn": "Turned by",
        "tilt": "From above",
        "slices": "Three planes",
        "clear": "Transparent ground",
        "written": "Cube and bar",
        "parallel": "Parallel",
        "apart_by": "Apart",
        "only": "Only the label",
        "inside": "Volume only in",
        "columns": "On paper",
        "wide": "Or so wide",
        "dpi": "Dots an inch",
        "replace_file": "In place of another",
    },
    rare="roll zoom apart_by only inside quality crop cut clear written columns wide dpi parallel replace_file",
    group="Pictures",
    once=("solid-picture",),
)
def render(
    image: Image,
    labels: LabelMap | None = None,
    others: list[LabelMap] | None = None,
    *,
    to: NewPath,
    look: str = "",
    image_as: Annotated[BodyAs, LeftOut("outline with labels, else volume")] = None,
    volumes: list[Image] | None = None,
    surfaces: list[Surfaces] | None = None,
    marks: list[Marks] | None = None,
    slices: bool = False,
    size: str = "900x700",
    from_: Side = "",
    turn: Angle = START[0],
    tilt: Annotated[float, Unit("deg"), Between(-90, 90)] = START[1],
    roll: Angle = 0.0,
    zoom: Annotated[float, Between(0.1, 50)] = 1.0,
    parallel: bool = False,
    opacity: Annotated[float, Between(0.02, 1)] = 1.0,
    apart_by: Annotated[float, Between(0, 10)] = 0.0,
    only: str = "",
    inside: str = "",
    quality: Quality = "usual",
    crop: str = "",
    cut: str = "",
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
    look : text
        A ready look of the volume: Skin, Bone, Vessels, Soft tissue, Tracer uptake, Glass, Air spaces, Section stack,
        Fluorescence or Height map; or a curve, as in "200 #9C7B57 0; 450 #DCC9A6 0.5"; the one that suits when left
        out.
    image_as : text
        How the image itself is shown.
    volumes : images
        Drawn as volumes in the same scene.
    slices : bool
        The three planes through the middle.
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
    opacity : number
        Of labels and surfaces, 0 to 1.
    apart_by : number
        Labels are moved away from their middle by this share of the way.
    only : text
        The one label that is shown, of the first label map.
    inside : text
        The volume is drawn only where this label lies, or "any label".
    quality : text
        Of volumes: quick, usual or finest, which takes twice as long as the usual one.
    crop : text
        Lowest x, y, z and highest x, y, z that are shown, six numbers in mm.
    cut : text
        A plane as four numbers nx, ny, nz, d: only what has n·p ≥ d is shown.
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
    parts = (volumes, surfaces, marks, slices, opacity, apart_by, only, inside, crop, cut)
    scene, things = scene_for(image, maps, look, image_as, *parts)
    camera = Camera(turn, tilt, zoom, roll, parallel=parallel)
    camera = camera.side(from_) if from_ else camera
    with drawing(scene, things.__getitem__, progress.part(0.0, 0.7), quality) as drawn:
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


def _box(text: str) -> Ends | None:
    """Two ends of six numbers. Raises Trouble when they are none."""
    if not text.strip():
        return None
    found = numbers_of(text)
    if len(found) != 6 or any(a > b for a, b in zip(found[:3], found[3:])):
        raise Trouble(f"“{text[:60]}” is no box", "give lowest x, y, z and highest x, y, z in mm")
    return (found[0], found[1], found[2]), (found[3], found[4], found[5])


def _told(place: Any) -> str:
    return ", ".join(f"{v:.4g}" for v in place)


def _plane(text: str) -> Plane | None:
    """A plane of four numbers, its direction of length 1. Raises Trouble when it is none."""
    if not text.strip():
        return None
    found = numbers_of(text)
    long = sum(v * v for v in found[:3]) ** 0.5
    if len(found) != 4 or not long > 0:
        raise Trouble(f"“{text[:60]}” is no plane", "give nx, ny, nz and d in mm")
    return found[0] / long, found[1] / long, found[2] / long, found[3] / long


def scene_for(
    image: Image,
    maps: Sequence[LabelMap],
    look: str = "",
    image_as: str | None = None,
    volumes: Sequence[Image] | None = None,
    surfaces: Sequence[Surfaces] | None = None,
    marks: Sequence[Marks] | None = None,
    slices: bool = False,
    opacity: float = 1.0,
    apart_by: float = 0.0,
    only: str = "",
    inside: str = "",
    crop: str = "",
    cut: str = "",
) -> tuple[Solid, dict[int | str, Any]]:
    """The scene of what is given, and its things by what they are called in it.

    Raises Trouble when things lie in another world than the image, or nobody knows the look or the label.
    """
    table = maps[0].table if maps else None
    if (only or inside) and table is None:
        raise Trouble("There are no labels to choose from", "name the label map too")
    others: list[Any] = [*maps, *(volumes or ()), *(surfaces or ()), *(marks or ())]
    for one in others:
        here = one.space.world if isinstance(one, (Image, LabelMap)) else one.world
        own = image.space.world
        if here.id and own.id and not here.is_one_with(own):
            raise apart(one.name, here, image.name, own)
    way = image_as or ("outline" if (maps or surfaces) and not look else "volume")
    if way == "volume" and min(image.space.shape) < 2:
        if look or image_as:
            raise Trouble(f"“{image.name}” is one slice, and no volume", "leave the look out, or choose a volume")
        way = "outline"
    ends, box = image.space.corners(), _box(crop)
    if box is not None and not surfaces and ((ends.max(0) < box[0]) | (ends.min(0) > box[1])).any():
        raise Trouble(
            "Nothing lies in this box", f"“{image.name}” lies from {_told(ends.min(0))} to {_told(ends.max(0))}"
        )
    grey = image.grey()
    shown = Shown(
        image=way,
        look=look_from(look or first_name(image), grey) if way == "volume" else None,
        over=True,
        label_opacity=opacity,
        slices=slices,
        apart=apart_by,
        only=table.named(only).number if only and table else 0,
        inside=-1 if not inside or table is None else 0 if inside.casefold() == ANY else table.named(inside).number,
        crop=box,
        cut=_plane(cut),
    )
    middle = ends.mean(0)
    there = Around(
        "image",
        grey,
        first_look(grey),
        [(f"labels {n}", one) for n, one in enumerate(maps)][::-1],
        [(f"volume {n}", one.grey()) for n, one in enumerate(volumes or ())],
        [(f"surface {n}", one) for n, one in enumerate(surfaces or ())],
        [(f"marks {n}", one) for n, one in enumerate(marks or ())],
        (float(middle[0]), float(middle[1]), float(middle[2])),
    )
    return scene_of(shown, there)


def require_seen(image: Image, scene: Solid, triangles: dict[tuple, int]) -> None:
    """Raises Trouble when a scene is made of surfaces without triangles alone, as that of one slice."""
    made = (OUTLINE, SURFACE, MESH, RELIEF)
    if all(body.way in made and not triangles.get(body.key) for body in scene.bodies):
        raise Trouble(f"Nothing of “{image.name}” is solid", "choose a volume, or write a picture of a plane")


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
