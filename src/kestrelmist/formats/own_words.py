"""What a format has no field for, written in words of our own where it has room for some: unit of the values, axes, how
it was taken, how sure its scale is, and for pictures place and sides. Other programs pass over it."""

from __future__ import annotations

import json

import numpy as np

from ..core.axis import Axis
from ..core.image import Image
from ..core.scale import FACT, Scale
from ..core.space import Space
from ..core.world import World
from .measured_facts import measured_facts
from .sidecar import KEY as ACQUISITION
from .sidecar import sensible_facts

KEY = "kestrelmist"
MOST = 1 << 20
"""Letters."""
ALIKE = 1e-3
"""By how much cosines of directions may differ and be the same."""


def own_words(image: Image, *, place: bool = True, most: int = MOST) -> str:
    """Unit, axes, how it was taken, and place when that is wanted, as text of so many letters at most; empty when there
    is nothing to say."""
    words, facts = words_of(image, place), measured_facts(image)
    if facts:
        taken = {
            "facts": facts,
            "shape": list(image.space.shape),
            "directions": np.round(_directions(image), 6).tolist(),
        }
        text = json.dumps(words | {"taken": taken})
        if len(text) <= most:
            return text
    text = json.dumps(words) if words else ""
    return text if len(text) <= most else ""


def _directions(image: Image) -> np.ndarray:
    return image.space.affine[:3, :3] / np.array(image.space.spacing)


def words_of(image: Image, place: bool) -> dict:
    """Unit, axes and place by name, for JSON."""
    more: dict = {}
    if image.unit:
        more["unit"] = image.unit
    if image.axes:
        more["axes"] = [a.as_dict() for a in image.axes]
    scale = Scale.from_fact(image.facts.get(FACT, ""))
    if scale is not None and image.space.unit == "mm":
        more["calibrated"] = {"facts": json.loads(scale.nameless.fact), "spacing": list(image.space.spacing)}
    if place and image.space.sides_known:
        more |= {"shape": list(image.space.shape), "affine": image.space.affine.tolist()}
    if "affine" in more or not image.space.sides_known:
        more["space"] = image.space.world.as_dict()
        more["length"] = image.space.unit
    return more


def take_in_words(image: Image, text: str) -> None:
    """As `take_in`, from text; nothing when it is no text of ours."""
    try:
        found = json.loads(text) if 0 < len(text) <= MOST else {}
    except (ValueError, RecursionError):
        return
    take_in(image, found)


def take_in(image: Image, found: dict) -> None:
    """Set what words of our own say of an image that was read, as far as it still is of the same size and scale."""
    try:
        unit = str(found.get("unit", ""))
        axes = tuple(Axis.from_dict(a) for a in found.get("axes", ()))
        space = _space(found) if "affine" in found else None
        world = World.from_dict(found["space"]) if "space" in found else None
    except (ValueError, KeyError, TypeError, AttributeError):
        return
    image.unit = unit or image.unit
    if sorted((a.name, a.size) for a in axes) == sorted((a.name, a.size) for a in image.axes):
        axes = tuple(
            next(a for a in axes if a.name == read.name) for read in image.axes
        )  # files have an order of theirs
    if axes and [a.size for a in axes] == [a.size for a in image.axes]:
        image.axes = axes
        for level in image.levels:
            level.axes = axes
    if space is None and world is not None and not world.sides_known and image.space.sides_known:
        space = Space(image.space.shape, image.space.affine, "px" if found.get("length") == "px" else "mm", world)
    if space is not None and space.shape == image.space.shape and _same_scale(space, image.space):
        old, image.space = image.space, space
        for level in image.levels:
            level.space = level.space.relocated(old, space)
        if space.sides_known:
            image.caveats = [c for c in image.caveats if not c.code.startswith("sides-")]
    _take_in_how(image, found.get("taken"))
    _take_in_how_sure(image, found.get("calibrated"))


def _take_in_how_sure(image: Image, told) -> None:
    """Set how sure the scale is, when it still is the one that this was told of."""
    try:
        was, now = np.array(told["spacing"][:2], float), np.array(image.space.spacing[:2])
        scale = Scale.from_fact(json.dumps(told["facts"]))
    except (ValueError, KeyError, TypeError, IndexError):
        return
    if scale is not None and image.space.unit == "mm" and (np.abs(was - now) <= 1e-4 * now).all():
        image.facts[FACT] = scale.fact


def _take_in_how(image: Image, taken) -> None:
    """Set how it was taken, when the grid is the one that lines, slices and gradients were told of: another program may
    have turned or cut it, and passed these words on."""
    try:
        if not isinstance(taken, dict) or list(taken["shape"]) != list(image.space.shape):
            return
        if not np.abs(np.array(taken["directions"], float) - _directions(image)).max() <= ALIKE:
            return
        facts = sensible_facts(dict(taken["facts"]))
    except (ValueError, KeyError, TypeError, OverflowError):
        return
    if facts:
        image.facts[ACQUISITION] = json.dumps(facts)


def _space(found: dict) -> Space:
    affine = np.array(found["affine"], float)
    if affine.shape != (4, 4) or not np.isfinite(affine).all() or abs(np.linalg.det(affine)) < 1e-300:
        raise ValueError("no affine")
    i, j, k = (int(n) for n in found["shape"])
    return Space((i, j, k), affine, "mm", World.from_dict(found["space"]))


def _same_scale(one: Space, other: Space) -> bool:
    return other.unit != "mm" or all(
        n == 1 or abs(a - b) <= 1e-3 * b for a, b, n in zip(one.spacing, other.spacing, one.shape)
    )
