"""What the Solid view shows, as frozen data: things by their ids, which part of each, how it looks, where one looks
from. The window's process and the operation that writes a picture render the same."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import asdict, dataclass, field, replace
from typing import Any

import numpy as np

from ..core.errors import Trouble
from ..core.heights import is_height_map
from ..core.image import Image
from ..core.labels import LabelMap
from .layer import ImageLook, restored
from .occupancy import LONGEST, ROUGH, Field, image_field, label_field
from .primitives import rgba
from .relief import Relief, relief_of
from .showing import display_range

SMOOTHING, HELD = 18, 0.3
"""Times that a surface is smoothed, and voxels that it may move by: what is one voxel thick stays to be seen."""
PALE, CLEAR = "#9EB3BD", 0.16
"""Colour and opacity of the outline of the subject at first."""
OUTLINE, SURFACE, RELIEF = "outline", "surface", "relief"


@dataclass(frozen=True)
class Camera:
    """Where one looks from: degrees round the up axis (0 is the front), degrees above the horizon, a factor."""

    turn: float = 35.0
    tilt: float = 22.0
    zoom: float = 1.0

    def turned(self, turn: float, tilt: float) -> Camera:
        """The camera after a turn, in degrees."""
        return replace(self, turn=(self.turn + turn) % 360, tilt=max(-89.0, min(89.0, self.tilt + tilt)))


@dataclass(frozen=True)
class Body:
    """One surface of a scene.

    Parameters
    ----------
    thing : int or str
        Which thing of the study: its id, or a reference in text.
    part : int
        Of a label map: the number of the label.
    way : "outline", "surface" or "relief"
        Outline of an image, surface of a label, an image as heights.
    colour : str
        "#RRGGBB".
    opacity : float
        0 to 1.
    look : ImageLook, optional
        Range and colours of a relief.
    """

    thing: int | str = 0
    part: int = 0
    way: str = SURFACE
    colour: str = PALE
    opacity: float = 1.0
    look: ImageLook | None = None

    @property
    def key(self) -> tuple:
        """What it is in a scene, whatever its look."""
        return self.thing, self.part

    @property
    def ink(self) -> tuple[float, float, float]:
        """Its colour, each part from 0 to 1."""
        red, green, blue, _ = rgba(self.colour)
        return red / 255, green / 255, blue / 255


@dataclass(frozen=True)
class Solid:
    """A scene.

    Parameters
    ----------
    bodies : tuple of Body
    camera : Camera
    crop : ((x, y, z), (x, y, z)), optional
        Lowest and highest world position that is shown, mm.
    """

    bodies: tuple[Body, ...] = ()
    camera: Camera = field(default_factory=Camera)
    crop: tuple[tuple[float, float, float], tuple[float, float, float]] | None = None

    def as_dict(self) -> dict[str, Any]:
        """As plain values, for JSON."""
        return asdict(self)

    @classmethod
    def from_dict(cls, facts: dict[str, Any]) -> Solid:
        """Read back; what is unknown or damaged is passed over."""
        bodies = []
        for row in facts.get("bodies") or () if isinstance(facts, dict) else ():
            if isinstance(row, dict) and isinstance(row.get("thing"), (int, str)):
                look = row.get("look")
                body = restored(Body, {name: value for name, value in row.items() if name != "look"})
                bodies.append(replace(body, look=restored(ImageLook, look)) if isinstance(look, dict) else body)
        crop = facts.get("crop") if isinstance(facts, dict) else None
        sound = isinstance(crop, (list, tuple)) and len(crop) == 2 and all(len(end) == 3 for end in crop)
        ends = tuple(tuple(float(v) for v in end) for end in crop) if sound and crop is not None else None
        camera = restored(Camera, facts.get("camera") if isinstance(facts, dict) else None)
        return cls(tuple(bodies), camera, ends)  # type: ignore[arg-type]


def bodies_of_image(key: int | str, image: Image, look: ImageLook | None) -> Body:
    """The body of an image: its surface when it is a height map, else the pale outline of the subject."""
    if look is not None and is_height_map(image):
        return Body(key, 0, RELIEF, look=look)
    return Body(key, 0, OUTLINE, PALE, CLEAR)


def bodies_of_labels(key: int | str, labels: LabelMap, only: int | None = None, opacity: float = 1.0) -> list[Body]:
    """A body for every label that has voxels and is not hidden."""
    return [
        Body(key, row.number, SURFACE, row.colour, opacity)
        for row in labels.table
        if not row.hidden and labels.counts[row.number] and only in (None, row.number)
    ]


@dataclass(frozen=True, eq=False)
class Made:
    """A body worked out: a coarse field, or a relief; None when there is nothing of it."""

    body: Body
    shape: Field | Relief | None
    level: float = 127.5
    smoothing: int = SMOOTHING


def made(body: Body, thing: Any, rough: bool = False) -> Made:
    """Work out a body of a thing that is at hand; of a label roughly, where it has to follow a hand."""
    if body.way == RELIEF:
        return Made(body, relief_of(thing, body.look or ImageLook(*display_range(thing))))
    if body.way == OUTLINE:
        image = thing.grey()
        level = 40.0 if image.unit != "HU" else max(6.0, min(200.0, _air(image)))
        return Made(body, image_field(image), level, 30)
    return Made(body, label_field(thing, body.part, ROUGH if rough else LONGEST, rough))


def message(one: Made, key: Any = None) -> tuple:
    """What the process that draws is told of a body."""
    body, shape = one.body, one.shape
    key = body.key if key is None else key
    if shape is None:
        return gone(key)
    if isinstance(shape, Relief):
        return ("relief", key, shape.heights, shape.colours, shape.affine)
    shiny = body.way == SURFACE
    held = HELD / shape.factor if shiny else np.inf
    how = (one.level, one.smoothing, held, shape.faces if shiny else None, shiny)
    return ("surface", key, shape.values, shape.affine, body.ink, body.opacity, *how)


def gone(key: Any) -> tuple:
    """What it is told of one that is shown no more."""
    return ("surface", key, None, None, (0, 0, 0), 0.0)


def _air(image: Image) -> float:
    """Where skin begins, as a share of 255 of the display range: −300 HU."""
    low, high = display_range(image)
    return (-300.0 - low) / (high - low) * 255.0


def messages(solid: Solid, find: Callable[[int | str], Any]) -> Iterable[tuple]:
    """All that the process is told of a scene; `find(thing)` gives a thing by what it is called in the scene.

    Raises Trouble when the scene holds nothing.
    """
    if not solid.bodies:
        raise Trouble("There is nothing to be seen", "name an image, or labels that have voxels")
    for body in solid.bodies:
        yield message(made(body, find(body.thing)))
    yield ("crop", solid.crop)
