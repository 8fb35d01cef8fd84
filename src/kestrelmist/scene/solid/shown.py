"""What is shown of an image in its solid scene, as a person chose it, and the scene that comes of that."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass, field, replace
from typing import Any

from ...core.geometry.marks import Marks
from ...core.heights import is_height_map
from ...core.image import Image
from ...core.labels import LabelMap
from ...core.surface.surface import Surfaces
from ..layer import ImageLook, restored
from .eye import Camera
from .scene import (
    CROSS,
    MARKS,
    SLICE,
    VOLUME,
    Body,
    Ends,
    Plane,
    Solid,
    bodies_of_image,
    bodies_of_labels,
    bodies_of_surfaces,
)
from .volume_look import VolumeLook

WAYS = ("outline", "volume", "none")
QUALITIES = ("quick", "usual", "finest")
"""How finely pictures at rest are drawn."""
ANY = "any label"
"""Said for a volume that is drawn in every label."""
CROSSHAIR = "#C9C49B"


@dataclass(frozen=True)
class Shown:
    """A person's choice for one image.

    Parameters
    ----------
    image : "outline", "volume" or "none"
        How the image itself is shown.
    look : VolumeLook, optional
        Of its volume; the ready one that suits when left out.
    over : bool
        Whether what lies over it is shown as volumes too.
    labels : bool
    label_opacity : number
    only : int
        The one label that is shown, of the map in hand, which is the last one; 0 for all.
    surfaces, slices, marks, cross : bool
        Surfaces of the image, the three planes through the crosshair, its marks, the crosshair.
    apart : number
        By what share of their way from the middle labels are moved apart.
    crop : ends, optional
        Lowest and highest world position that is shown.
    cut : plane, optional
        See `Solid`.
    inside : int
        Only what lies in this label is drawn of the volume; 0 for any label, −1 for all of it.
    """

    image: str = "outline"
    look: VolumeLook | None = None
    over: bool = False
    labels: bool = True
    label_opacity: float = 1.0
    only: int = 0
    surfaces: bool = True
    slices: bool = False
    marks: bool = True
    cross: bool = False
    apart: float = 0.0
    crop: Ends | None = None
    cut: Plane | None = None
    inside: int = -1
    camera: Camera = field(default_factory=Camera)

    def as_dict(self) -> dict[str, Any]:
        """As plain values, for JSON."""
        return asdict(self)

    @classmethod
    def from_dict(cls, facts: Any) -> Shown:
        """Read back; what is unknown or damaged is passed over."""
        facts = facts if isinstance(facts, dict) else {}
        made = restored(cls, {name: value for name, value in facts.items() if name not in ("look", "camera")})
        look = restored(VolumeLook, facts["look"]) if isinstance(facts.get("look"), dict) else None
        image = made.image if made.image in WAYS else "outline"
        return replace(made, image=image, look=look, camera=restored(Camera, facts.get("camera")))


@dataclass(frozen=True, eq=False)
class Around:
    """What there is to be shown.

    Parameters
    ----------
    key, image, look
        The image that leads, and its look in panes.
    maps, over, surfaces, marks : sequences of (key, thing)
        Label maps that are seen, images that lie over it, surfaces and marks of it.
    crosshair : three numbers
    """

    key: int | str
    image: Image
    look: ImageLook | None = None
    maps: Sequence[tuple[int | str, LabelMap]] = ()
    over: Sequence[tuple[int | str, Image]] = ()
    surfaces: Sequence[tuple[int | str, Surfaces]] = ()
    marks: Sequence[tuple[int | str, Marks]] = ()
    crosshair: tuple[float, float, float] = (0.0, 0.0, 0.0)


def _drawn(there: Around, number: int) -> bool:
    """Whether the map in hand has voxels of a label: one that is gone is chosen no more."""
    labels = there.maps[-1][1] if there.maps else None
    return labels is not None and number > 0 and labels.table.get(number) is not None and labels.counts[number] > 0


def scene_of(shown: Shown, there: Around) -> tuple[Solid, dict[int | str, Any]]:
    """The scene of a choice, and its things by what they are called in it."""
    things: dict[int | str, Any] = {there.key: there.image}
    bodies: list[Body] = []
    flat = min(there.image.space.shape) < 2
    heights = is_height_map(there.image)
    inside = None
    only = shown.only if _drawn(there, shown.only) else 0
    if there.maps and (shown.inside == 0 or _drawn(there, shown.inside)):
        inside = (there.maps[-1][0], shown.inside)
    if shown.image == "volume" and not flat and not there.image.colour:
        bodies.append(Body(there.key, 0, VOLUME, look=shown.look, inside=inside))
    elif shown.image == "outline" or (shown.image == "volume" and heights):
        bodies.append(bodies_of_image(there.key, there.image, there.look))
    for key, image in there.over if shown.over else ():
        if min(image.space.shape) > 1 and not image.colour:
            things[key] = image
            bodies.append(Body(key, 0, VOLUME, onto=there.key if image.through is not None else None))
    for key, labels in there.maps:
        things[key] = labels
        if shown.labels and (not only or key == there.maps[-1][0]):
            bodies += bodies_of_labels(key, labels, only or None, shown.label_opacity, shown.apart)
    for key, surfaces in there.surfaces if shown.surfaces else ():
        things[key] = surfaces
        bodies += bodies_of_surfaces(key, surfaces, shown.label_opacity)
    for key, marks in there.marks if shown.marks else ():
        if len(marks):
            things[key] = marks
            bodies.append(Body(key, 0, MARKS, "#E8B68C"))
    at = there.crosshair
    if shown.slices and not flat and there.look is not None:
        for axis in range(3):
            # its own part of the place alone, so that a slice is drawn anew only where it is another one
            own = (at[0] if axis == 0 else 0.0, at[1] if axis == 1 else 0.0, at[2] if axis == 2 else 0.0)
            bodies.append(Body(there.key, axis, SLICE, look=there.look, at=own))
    if shown.cross:
        bodies.append(Body(there.key, 0, CROSS, CROSSHAIR, at=at))
    return Solid(tuple(bodies), shown.camera, shown.crop, shown.cut), things
