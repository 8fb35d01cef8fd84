"""How a picture was made, as facts that go into its file and a caption that goes below it. Nothing of identity stands
in them: names of images, ranges, layers and positions, and no subject."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from ..core.digits import signed
from ..core.image import Image
from ..core.quantity import pretty_unit
from ..scene.layer import ImageLook
from ..scene.layer_type import Drawn
from ..scene.slab import slab_words
from ..scene.solid.eye import Eye
from ..scene.solid.scene import Solid
from ..scene.solid.volume_look import VolumeLook

Facts = tuple[tuple[str, str], ...]


def range_words(look: ImageLook, image: Image, lengths: str) -> str:
    """A display range in words: "−100 to 900 HU, Grey"; `lengths` is the unit of lengths."""
    words = f"{look.low:.4g} to {look.high:.4g} {pretty_unit(image.unit)}".replace("-", "−").strip()
    words += f", {look.colour_map}" + (f", below zero {look.below_map}" if look.below_map else "")
    return words + (f", {slab}" if (slab := slab_words(look, image, lengths)) else "")


def facts_of_planes(
    lead: Image, layers: Sequence[Drawn], position: str, pixel: float, others: Sequence[str] = ()
) -> Facts:
    """Facts of a picture of planes.

    Parameters
    ----------
    layers : sequence of Drawn
        The lowest first.
    position : str
        Which plane, and where.
    pixel : float
        Size of a pixel, in the unit of the lead image.
    others : names
        Of labels and marks over it.
    """
    rows = [("Image", lead.name)]
    for n, one in enumerate(layers):
        if isinstance(one.look, ImageLook) and not one.thing.colour:
            words = range_words(one.look, one.thing, lead.space.unit)
            rows.append((("Range" if n == 0 else f"Over it, {one.thing.name}"), words))
        elif n:
            rows.append(("Over it", one.thing.name))
    rows += [("Over it", name) for name in others]
    rows += [("Position", position)] if position else []
    rows.append(("Pixel", f"{pixel:.6g} {pretty_unit(lead.space.unit)}"))
    return tuple(rows)


def facts_of_scene(image: Image, scene: Solid, things: dict[int | str, Any], eye: Eye) -> Facts:
    """Facts of a picture of a solid scene."""
    rows = [("Image", image.name)]
    names = []
    for body in scene.bodies:
        thing = things[body.thing]
        if isinstance(body.look, VolumeLook):
            rows.append(("Look", f"{thing.name}: {body.look.name or 'own curve'}, {body.look.way}"))
        elif thing is not image and thing.name not in names:
            names.append(thing.name)
    rows += [("Shown", ", ".join(names))] if names else []
    if any(any(body.shift) for body in scene.bodies):
        rows.append(("Moved apart", "parts do not lie where they are"))
    for body in scene.bodies:
        if body.inside is not None:
            mask, number = things[body.inside[0]], body.inside[1]
            row = mask.table.get(number) if number else None
            rows.append(("Only in", row.name if row is not None else f"labels of “{mask.name}”"))
    camera = eye.camera
    rows.append(("Camera", f"turned {camera.turn:.4g}°, {camera.tilt:.4g}° from above, {camera.roll:.4g}° rolled"))
    rows.append(("Projection", "parallel" if camera.parallel else "perspective"))
    if camera.parallel:
        rows.append(("Pixel", f"{eye.pixel:.6g} {pretty_unit(image.space.unit)}"))
    if scene.crop is not None:
        low, high = (", ".join(signed(v, 2) for v in end) for end in scene.crop)
        rows.append(("Cropped to", f"{low} – {high} {pretty_unit(image.space.unit)}"))
    if scene.cut is not None:
        rows.append(("Cut by", f"a plane across {', '.join(signed(v, 2) for v in scene.cut[:3])}"))
    return tuple(rows)


def caption_of(facts: Facts, title: str = "") -> str:
    """A caption ready to paste: one sentence a fact that a reader wants."""
    known = dict(facts)
    parts = [title or known.get("Image", "")]
    parts += [f"{name.lower()}: {value}" for name, value in facts if name not in ("Image", "Pixel", "Camera")]
    text = "; ".join(part for part in parts if part)
    bar = known.get("Pixel")
    return f"{text}. One pixel is {bar}." if bar else f"{text}."
