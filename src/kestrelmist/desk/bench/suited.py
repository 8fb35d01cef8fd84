"""Lengths in forms: typed in the unit that suits the grid of what leads, and given on with it."""

from __future__ import annotations

import re

from ...core.digits import plain
from ...scene.showing import shown_unit
from ...study.items import ImageRecord

NUMBER = re.compile(r"[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?")
PLAIN = re.compile(rf"(?:{NUMBER.pattern}|[,;\s])+")


PLACES = ("place", "places", "end", "spot", "points")
"""Roles of positions: they count in the unit of the world, which is pixels where no scale is known."""


def suited(record: ImageRecord | None, unit: str, role: str = "") -> tuple[str, float]:
    """The unit in which lengths are shown on a grid, and how many of it make one of `unit`: µm on fine ones."""
    if unit != "mm" or record is None or (record.grid.unit != "mm" and role not in PLACES):
        return unit, 1.0
    return shown_unit(record.grid)


def times(value: float, factor: float) -> float:
    """A length in another unit, without the last digits that multiplying leaves."""
    return float(f"{value * factor:.15g}")


def with_unit(text: str, unit: str) -> str:
    """Numbers of a text, each with the unit behind it; as it is where a person has typed units.

    >>> with_unit("1, 2.5; -3e-1", "µm"), with_unit("1mm, 2", "µm")
    ('1µm, 2.5µm; -3e-1µm', '1mm, 2')
    """
    plain_text = text.replace("−", "-")
    return NUMBER.sub(lambda found: f"{found[0]}{unit}", plain_text) if PLAIN.fullmatch(plain_text) else text


def listed(values, factor: float = 1.0) -> str:
    """Numbers as they stand in a field."""
    return ", ".join(plain(times(float(v), factor) if factor != 1.0 else v) for v in values)
