"""Looks of volumes as text: the name of a ready one, or a curve that somebody drew."""

from __future__ import annotations

from typing import Any

from ...core.errors import Trouble
from ...core.image import Image
from ..primitives import rgba
from .ready_looks import READY, fitted
from .volume_look import WAYS, Point, VolumeLook


def text_of(look: VolumeLook) -> str:
    """A look as text: "Bone", or "200 #9C7B57 0; 450 #DCC9A6 0.5; highest; unlit; edges 0.4"."""
    if look.name and any(one.name == look.name for one in READY):
        return look.name
    parts = [f"{value!r} {colour} {opacity:.4g}" for value, colour, opacity in look.points]
    parts += [look.way] if look.way != "shaded" else []
    parts += ["unlit"] if not look.lit else []
    parts += [f"glow {look.glow:.4g}"] if look.glow != VolumeLook().glow else []
    parts += [f"edges {look.edges:.4g}"] if look.edges else []
    return "; ".join(parts)


def look_from(text: str, image: Image) -> VolumeLook:
    """The look that a text tells, on an image. Raises Trouble when it tells none."""
    if ";" not in text:
        return fitted(text, image)
    points: list[Point] = []
    how: dict[str, Any] = {}
    for part in filter(None, (one.strip() for one in text.split(";"))):
        words = part.split()
        try:
            if part in WAYS:
                how["way"] = part
            elif part == "unlit":
                how["lit"] = False
            elif words[0] in ("edges", "glow") and len(words) == 2:
                how[words[0]] = min(1.0, max(0.0, float(words[1])))
            else:
                value, colour, opacity = words
                rgba(colour)
                points.append((float(value), colour, float(opacity)))
        except ValueError:
            what = "give points as in “200 #9C7B57 0; 450 #DCC9A6 0.5”, or the name of a ready look"
            raise Trouble(f"“{part[:40]}” is no point of a curve", what) from None
    return VolumeLook(tuple(points), **how)
