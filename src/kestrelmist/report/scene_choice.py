"""What of a solid scene is shown, as settings that a picture and a film of it have in common, and the scene of that."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated, Any, Literal, get_args

from ..core.errors import Trouble
from ..core.geometry.marks import Marks
from ..core.image import Image
from ..core.labels import LabelMap
from ..core.left_out import LeftOut
from ..core.overlap import apart
from ..core.parameter import Between
from ..core.signature import Settings
from ..core.surface.surface import Surfaces
from ..scene.first_look import first_look
from ..scene.solid.look_text import look_from
from ..scene.solid.ready_looks import first_name
from ..scene.solid.scene import MESH, OUTLINE, RELIEF, SURFACE, Ends, Plane, Solid
from ..scene.solid.shown import ANY, QUALITIES, Around, Shown, scene_of
from .numbers import numbers_of

Fineness = Literal["quick", "usual", "finest"]
assert get_args(Fineness) == QUALITIES
BodyAs = Literal["outline", "volume", "none"] | None
RARE = "apart_by draw_labels only inside quality crop cut crosshair across up"
CALLED = {
    "image_as": "Image as",
    "slices": "Three planes",
    "crosshair": "Planes through",
    "apart_by": "Apart",
    "draw_labels": "Draw labels",
    "only": "Only the label",
    "inside": "Volume only in",
    "across": "Moved left",
    "up": "Moved down",
}


@dataclass(frozen=True)
class SceneChoice(Settings):
    """What of a scene is shown, and how.

    Parameters
    ----------
    look : text
        A ready look of the volume: Skin, Bone, Vessels, Soft tissue, Tracer uptake, Glass, Air spaces, Section stack,
        Fluorescence or Height map; or a curve, as in "200 #9C7B57 0; 450 #DCC9A6 0.5"; the one that suits when left
        out.
    image_as : text
        How the image itself is shown.
    opacity : number
        Of labels and surfaces, 0 to 1; in a film of planes, of what lies over them.
    slices : bool
        Three planes, through the middle or `crosshair`.
    crosshair : text
        Where they cross: x, y, z in mm.
    apart_by : number
        Labels are moved away from their middle by this share of the way.
    draw_labels : bool
        Labels stand in the scene, and do not only say where the volume is drawn.
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
    across, up : number
        By how much what is looked at lies left of and below the middle, in halves of the picture's height at zoom 1.
    """

    look: str = ""
    image_as: Annotated[BodyAs, LeftOut("outline with labels, else volume")] = None
    opacity: Annotated[float, Between(0.02, 1)] = 1.0
    slices: bool = False
    crosshair: str = ""
    apart_by: Annotated[float, Between(0, 10)] = 0.0
    draw_labels: bool = True
    only: str = ""
    inside: str = ""
    quality: Fineness = "usual"
    crop: str = ""
    cut: str = ""
    across: Annotated[float, Between(-100, 100)] = 0.0
    up: Annotated[float, Between(-100, 100)] = 0.0


AS_USUAL = SceneChoice()


@dataclass(frozen=True, eq=False)
class Given:
    """What stands in a scene beside its image; of label maps the first is the one that labels are named of."""

    maps: Sequence[LabelMap] = ()
    volumes: Sequence[Image] = ()
    surfaces: Sequence[Surfaces] = ()
    marks: Sequence[Marks] = ()


def scene_for(image: Image, choice: SceneChoice, given: Given = Given()) -> tuple[Solid, dict[int | str, Any]]:
    """The scene of what is given, and its things by what they are called in it.

    Raises Trouble when things lie in another world than the image, nobody knows the look or the label, the label has no
    voxels, or nothing lies in the box.
    """
    labels = given.maps[0] if given.maps else None
    others: list[Any] = [*given.maps, *given.volumes, *given.surfaces, *given.marks]
    for one in others:
        here = one.space.world if isinstance(one, (Image, LabelMap)) else one.world
        own = image.space.world
        if here.id and own.id and not here.is_one_with(own):
            raise apart(one.name, here, image.name, own)
    way = choice.image_as or ("outline" if (given.maps or given.surfaces) and not choice.look else "volume")
    if way == "volume" and min(image.space.shape) < 2:
        if choice.look or choice.image_as:
            raise Trouble(f"“{image.name}” is one slice, and no volume", "leave the look out, or choose a volume")
        way = "outline"
    ends, box = image.space.corners(), _box(choice.crop)
    if box is not None and not given.surfaces and ((ends.max(0) < box[0]) | (ends.min(0) > box[1])).any():
        raise Trouble(
            "Nothing lies in this box", f"“{image.name}” lies from {_told(ends.min(0))} to {_told(ends.max(0))}"
        )
    grey = image.grey()
    inside = choice.inside
    shown = Shown(
        image=way,
        look=look_from(choice.look or first_name(image), grey) if way == "volume" else None,
        over=True,
        labels=choice.draw_labels,
        label_opacity=choice.opacity,
        slices=choice.slices,
        apart=choice.apart_by,
        only=_number(labels, choice.only) if choice.only else 0,
        inside=-1 if not inside else 0 if inside.casefold() == ANY and labels is not None else _number(labels, inside),
        crop=box,
        cut=_plane(choice.cut),
    )
    there = Around(
        "image",
        grey,
        first_look(grey),
        [(f"labels {n}", one) for n, one in enumerate(given.maps)][::-1],
        [(f"volume {n}", one.grey()) for n, one in enumerate(given.volumes)],
        [(f"surface {n}", one) for n, one in enumerate(given.surfaces)],
        [(f"marks {n}", one) for n, one in enumerate(given.marks)],
        _place(choice.crosshair) if choice.crosshair.strip() else tuple(map(float, ends.mean(0))),  # type: ignore[arg-type]
    )
    return scene_of(shown, there)


def _number(labels: LabelMap | None, name: str) -> int:
    """The number of a label of the first map. Raises Trouble when there is none, or it has no voxels."""
    if labels is None:
        raise Trouble("There are no labels to choose from", "name the label map too")
    number = labels.table.named(name).number
    if not labels.counts[number]:
        raise Trouble(f"The label “{name}” has no voxels", "draw it first, or name another")
    return number


def _place(text: str) -> tuple[float, float, float]:
    """A place of three numbers. Raises Trouble when it is none."""
    found = numbers_of(text)
    if len(found) != 3:
        raise Trouble(f"“{text[:60]}” is no place", "give x, y, z in mm")
    return found[0], found[1], found[2]


def require_seen(image: Image, scene: Solid, triangles: dict[tuple, int]) -> None:
    """Raises Trouble when a scene is made of surfaces without triangles alone, as that of one slice."""
    made = (OUTLINE, SURFACE, MESH, RELIEF)
    if all(body.way in made and not triangles.get(body.key) for body in scene.bodies):
        raise Trouble(f"Nothing of “{image.name}” is solid", "choose a volume, or write a picture of a plane")


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
