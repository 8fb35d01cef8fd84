"""What a file of surfaces tells of its unit and axes, in lines that every format has room for."""

from __future__ import annotations

import re
from collections.abc import Iterable

from ...core.surface.surface import Surface

OURS = "right front up"
"""Where +x, +y and +z of this program point to."""
UNITS = {"um": 1e-3, "mm": 1.0, "cm": 10.0, "m": 1e3, "inch": 25.4}
"""Units of files in mm."""


def lines(unit: str) -> list[str]:
    """What is written into a file whose positions are in a unit."""
    return [f"unit {unit}", f"axes {OURS}"]


def told_unit(text: str) -> str:
    """The unit that such lines tell, "" when they tell none."""
    found = re.search(r"\bunit:? (mm|px|um|cm|m|inch)\b", text)
    return found.group(1) if found else ""


def one_line(name: str) -> str:
    """A name as it stands in a line of a file."""
    return " ".join(name.split()) or "surface"


def rgb(colour: str) -> tuple[int, int, int]:
    """Parts of "#RRGGBB", 0 to 255."""
    red, green, blue = bytes.fromhex(colour.lstrip("#")[:6])
    return red, green, blue


def hexed(colour: Iterable) -> str:
    """ "#RRGGBB" of parts from 0 to 255."""
    return "#" + "".join(f"{min(255, max(0, int(v))):02X}" for v in list(colour)[:3])


def offsets(parts: Iterable[Surface]) -> Iterable[tuple[Surface, int]]:
    """Each part with the number of corners before it."""
    first = 0
    for one in parts:
        yield one, first
        first += len(one.corners)
