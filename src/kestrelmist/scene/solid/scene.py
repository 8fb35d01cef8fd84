"""What the Solid view shows, as frozen data: things by their ids, which part of each, how it looks, where one looks
from. The window and the operations that write pictures have the same drawn."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import asdict, dataclass, field, replace
from typing import Any

import numpy as np

from ...core.heights import is_height_map
from ...core.image import Image
from ...core.labels import LabelMap
from ...core.surface.surface import Surfaces
from ..layer import ImageLook, restored
from ..primitives import rgba
from .eye import Camera
from .volume_look import VolumeLook

PALE, CLEAR = "#B4C6CE", 0.2
"""Colour and opacity of the outline of the subject at first."""
OUTLINE, SURFACE, RELIEF, VOLUME, MESH, SLICE, MARKS, CROSS = (
    *("outline", "surface", "relief", "volume", "mesh", "slice", "marks", "cross"),
)
Ends = tuple[tuple[float, float, float], tuple[float, float, float]]
Plane = tuple[float, float, float, float]


@dataclass(frozen=True)
class Body:
    """One thing of a scene, or a part of it.

    Parameters
    ----------
    thing : int or str
        Which thing of the study: its id, or a reference in text.
    part : int
        Of a label map the number of the label, of surfaces which of them; of a slice the axis that it lies across.
    way : text
        Outline of an image, surface of a label, an image as heights, as a volume, a surface of its own, a slice, marks,
        the crosshair.
    colour : str
        "#RRGGBB".
    opacity : float
        0 to 1.
    look : ImageLook or VolumeLook, optional
        Range and colours of a relief or slice, the curve of a volume.
    shift : three numbers
        By how much it is drawn beside its place, mm.
    at : three numbers, optional
        Where a slice or the crosshair lies.
    inside : (thing, number), optional
        Of a volume: only what lies in a label is drawn; in any of the map when the number is 0.
    onto : int or str, optional
        Of a volume that is seen through a mapping that bends: the image on whose grid it is brought.
    """

    thing: int | str = 0
    part: int = 0
    way: str = SURFACE
    colour: str = PALE
    opacity: float = 1.0
    look: ImageLook | VolumeLook | None = None
    shift: tuple[float, float, float] = (0.0, 0.0, 0.0)
    at: tuple[float, float, float] | None = None
    inside: tuple[int | str, int] | None = None
    onto: int | str | None = None

    @property
    def key(self) -> tuple:
        """What it is in a scene, whatever its look."""
        return (self.thing, self.part) if self.way in (SURFACE, OUTLINE, RELIEF) else (self.thing, self.part, self.way)

    @property
    def ink(self) -> tuple[float, float, float]:
        """Its colour, each part from 0 to 1."""
        red, green, blue, _ = rgba(self.colour)
        return red / 255, green / 255, blue / 255

    @property
    def finish(self) -> tuple:
        """How a surface of it takes light: ink, opacity, whether it shines, and by how much it is moved aside."""
        return self.ink, self.opacity, self.way != OUTLINE, self.shift


@dataclass(frozen=True)
class Solid:
    """A scene.

    Parameters
    ----------
    bodies : tuple of Body
    camera : Camera
    crop : ((x, y, z), (x, y, z)), optional
        Lowest and highest world position that is shown, mm.
    cut : (nx, ny, nz, d), optional
        Only what has n·p ≥ d is shown; n of length 1.
    """

    bodies: tuple[Body, ...] = ()
    camera: Camera = field(default_factory=Camera)
    crop: Ends | None = None
    cut: Plane | None = None

    @property
    def planes(self) -> np.ndarray:
        """What is shown has n·p ≥ d for each of them: float64 (n, 4)."""
        rows = []
        if self.crop is not None:
            for n in range(3):
                across = [float(m == n) for m in range(3)]
                rows += [[*across, self.crop[0][n]], [*(-v for v in across), -self.crop[1][n]]]
        if self.cut is not None:
            rows.append(list(self.cut))
        return np.array(rows, float).reshape(-1, 4)

    def as_dict(self) -> dict[str, Any]:
        """As plain values, for JSON."""
        return asdict(self)

    @classmethod
    def from_dict(cls, facts: dict[str, Any]) -> Solid:
        """Read back; what is unknown or damaged is passed over."""
        facts = facts if isinstance(facts, dict) else {}
        bodies = []
        for row in facts.get("bodies") or ():
            if isinstance(row, dict) and isinstance(row.get("thing"), (int, str)):
                look = row.get("look")
                body = restored(Body, {name: value for name, value in row.items() if name != "look"})
                if isinstance(look, dict):
                    own = restored(VolumeLook, look) if "points" in look else restored(ImageLook, look)
                    body = replace(body, look=own)
                bodies.append(body)
        rest = {name: facts[name] for name in ("crop", "cut") if facts.get(name) is not None}
        numbers = restored(cls, {name: _numbers(value) for name, value in rest.items()})
        return replace(numbers, bodies=tuple(bodies), camera=restored(Camera, facts.get("camera")))


def _numbers(value: Any) -> Any:
    """Whole numbers are as good as others."""
    if isinstance(value, (list, tuple)):
        return [_numbers(one) for one in value]
    return float(value) if isinstance(value, (int, float)) and not isinstance(value, bool) else value


def bodies_of_image(key: int | str, image: Image, look: ImageLook | None) -> Body:
    """The body of an image: its surface when it is a height map, else the pale outline of the subject."""
    if look is not None and is_height_map(image):
        return Body(key, 0, RELIEF, look=look)
    return Body(key, 0, OUTLINE, PALE, CLEAR)


def bodies_of_labels(
    key: int | str, labels: LabelMap, only: int | None = None, opacity: float = 1.0, apart: float = 0.0
) -> list[Body]:
    """A body for every label that has voxels and is not hidden, moved away from the middle of all by a share of the way
    that it is from there."""
    rows = [row for row in labels.table if not row.hidden and labels.counts[row.number] and only in (None, row.number)]
    shifts = _apart(labels, [row.number for row in rows], apart) if apart and len(rows) > 1 else {}
    return [
        Body(key, row.number, SURFACE, row.colour, opacity, shift=shifts.get(row.number, (0.0, 0.0, 0.0)))
        for row in rows
    ]


def _apart(labels: LabelMap, numbers: list[int], share: float) -> dict[int, tuple[float, float, float]]:
    from ...core.label_boxes import boxes_of

    boxes = boxes_of(labels.kji)
    middles = {
        n: labels.space.to_world([(s.start + s.stop - 1) / 2 for s in boxes[n][::-1]]) for n in numbers if n in boxes
    }
    centre = np.mean(list(middles.values()), 0)
    away = {n: share * (middle - centre) for n, middle in middles.items()}
    return {n: (float(x), float(y), float(z)) for n, (x, y, z) in away.items()}


def bodies_of_surfaces(key: int | str, surfaces: Surfaces, opacity: float = 1.0) -> list[Body]:
    """A body for every part of a surface."""
    return [Body(key, n, MESH, one.colour, opacity) for n, one in enumerate(surfaces.parts)]


def things_of(bodies: Iterable[Body]) -> set[int | str]:
    """What things bodies are of."""
    found: set[int | str] = set()
    for body in bodies:
        found.add(body.thing)
        if body.inside is not None:
            found.add(body.inside[0])
        if body.onto is not None:
            found.add(body.onto)
    return found
