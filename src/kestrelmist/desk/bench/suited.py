"""Lengths in forms: typed in the unit that suits the grid of what leads, and given on with it."""

from __future__ import annotations

import re

from ...core.digits import plain
from ...scene.showing import shown_unit
from ...study.items import ImageRecord

PLAIN = re.compile(r"[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?")


def suited(record: ImageRecord | None, unit: str) -> tuple[str, float]:
    """The unit in which lengths are shown on a grid, and how many of it make one of `unit`: µm on fine ones."""
    if unit != "mm" or record is None or record.grid.unit != "mm":
        return unit, 1.0
    return shown_unit(record.grid)


def times(value: float, factor: float) -> float:
    """A length in another unit, without the last digits that multiplying leaves."""
    return float(f"{value * factor:.15g}")


def with_unit(text: str, unit: str) -> str:
    """Numbers of a list, each with the unit behind it; as it is where a person has typed units.

    >>> with_unit("1, 2.5; 3", "µm"), with_unit("1mm, 2", "µm")
    ('1µm, 2.5µm, 3µm', '1mm, 2')
    """
    parts = [part for part in re.split(r"[,;\s]+", text.strip().replace("−", "-")) if part]
    if not parts or not all(PLAIN.fullmatch(part) for part in parts):
        return text
    return ", ".join(f"{part}{unit}" for part in parts)


def listed(values, factor: float = 1.0) -> str:
    """Numbers as they stand in a field."""
    return ", ".join(plain(times(float(v), factor) if factor != 1.0 else v) for v in values)
