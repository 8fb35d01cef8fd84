"""Which slices of a label were bridged and not looked at yet: a short text in the label's row."""

from __future__ import annotations

import re

from ...core.labels import Label
from ...core.space import Space

AXES = "ijk"
STRETCH = re.compile(r"([ijk])(\d+)-(\d+)")
Stretch = tuple[int, int, int]
"""The grid's axis, the first and the last slice, both in it."""


def unseen(label: Label, space: Space) -> list[Stretch]:
    """Stretches that nobody has looked at; none on another grid than the one they were bridged on."""
    grid, _, rest = label.bridged.partition(": ")
    if grid != _grid(space):
        return []
    return [(AXES.index(axis), int(a), int(b)) for axis, a, b in STRETCH.findall(rest)]


def as_text(stretches: list[Stretch], space: Space) -> str:
    """What stands in a label's row; "" when there are none."""
    told = " ".join(f"{AXES[axis]}{a}-{b}" for axis, a, b in sorted(set(stretches)))
    return f"{_grid(space)}: {told}" if told else ""


def _grid(space: Space) -> str:
    return "x".join(map(str, space.shape))
