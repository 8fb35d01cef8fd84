"""What an alignment does where nobody says it: how free it is, and by what measure."""

from __future__ import annotations

from typing import Any

from ..core.image import Image
from ..core.left_out import Found
from ..formats.sidecar import facts_of
from .warp_fit import pixels_of

TIMES = ("EchoTime", "RepetitionTime", "InversionTime", "FlipAngle")
"""What contrast in MR depends on."""
SAME = 0.1
"""Share by which these may differ."""
ALIKE, UNLIKE = "correlation", "normalised-information"


def freedom_of(given: dict[str, Any]) -> Found | None:
    """Shift and turn within one subject, all twelve between two; of pictures three."""
    image, onto = given.get("image"), given.get("onto")
    return None if image is None or onto is None else freedom_for(image, onto)


def freedom_for(image: Image, onto: Image) -> Found:
    """The same of two images."""
    if image.space.flat_axis is not None:
        return Found("3", "shift and turn of a picture")
    if image.subject and onto.subject and image.subject != onto.subject:
        return Found("12", "of two subjects")
    return Found("6", "of one subject")


def similarity_of(given: dict[str, Any]) -> Found | None:
    """Correlation where both have one contrast, normalised mutual information where they have two, or nobody knows."""
    image, onto = given.get("image"), given.get("onto")
    return None if image is None or onto is None else similarity_for(image, onto)


def similarity_for(image: Image, onto: Image) -> Found:
    """The same of two images."""
    why = alike(image, onto)
    return Found(ALIKE, why) if why else Found(UNLIKE, "contrasts differ, or are not known")


def alike(one: Image, other: Image) -> str:
    """Why two images have the same contrast; "" when nothing says so."""
    if not one.modality or one.modality != other.modality:
        return ""
    if one.modality == "CT":
        return "both are CT"
    if one.modality != "MR":
        return ""
    here, there = facts_of(one), facts_of(other)
    known = [name for name in TIMES if _number(here.get(name)) and _number(there.get(name))]
    if "EchoTime" not in known or "RepetitionTime" not in known:
        return ""
    for name in known:
        a, b = _number(here[name]), _number(there[name])
        if abs(a - b) > SAME * max(a, b):
            return ""
    return "both are MR of one contrast"


def _number(value: Any) -> float:
    try:
        return float(value)
    except (TypeError, ValueError):
        return 0.0


def warp_spacing_of(given: dict[str, Any]) -> Found | None:
    """Four voxels of the finest grid that a warp is worked out on."""
    image, onto = given.get("image"), given.get("onto")
    if image is None or onto is None or given.get("freedom") != "warp":
        return None
    return Found(4 * pixels_of(onto.space, image.space)[-1], "four voxels")
