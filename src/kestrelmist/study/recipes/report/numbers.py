"""Numbers of a run that tell of its subjects, and which of them are out of the usual among the others."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from ....core.kind import KINDS
from ....core.labels import LabelMap
from ....core.operation import operation_called
from ....core.table import Table
from ...journal.logbook import Step, Thing

if TYPE_CHECKING:
    from ...study import Study

OUT = 3.5
"""Robust z from which on a number is out of the usual (B. Iglewicz and D. C. Hoaglin, 1993)."""
FEWEST = 5
"""Numbers of which one can be out of the usual."""
PLACES = frozenset("number slice x y z".split())
"""Columns that say which and where, and not how much."""
REPORTED = 40
"""Rows of a table that is taken for a report of single numbers."""
MEANT = ("framewise_displacement", "dvars_after")
"""Columns of a table of volumes of which mean and highest value are told."""


@dataclass(frozen=True)
class Number:
    """One number of a unit; `z` is how far it lies from the others', None where that cannot be told."""

    name: str
    value: float
    unit: str = ""
    z: float | None = None

    @property
    def out(self) -> bool:
        return self.z is not None and abs(self.z) > OUT


def robust_z(values: Sequence[float]) -> list[float | None]:
    """How far each value lies from the median, in units of the median distance from it times 1.4826: as a standard
    deviation of normal values, and not moved by those that are out of the usual.

    None for all when there are fewer than five; where more than half are equal, what differs from them counts by the
    mean distance, as the two authors have it.
    """
    numbers = np.asarray(values, float)
    sound = np.isfinite(numbers)
    if sound.sum() < FEWEST:
        return [None] * len(numbers)
    middle = np.median(numbers[sound])
    apart = np.abs(numbers - middle)
    spread = 1.4826 * np.median(apart[sound])
    if spread == 0:
        spread = 1.2533 * apart[sound].mean()
    if spread == 0:
        return [0.0 if s else None for s in sound]
    return [float((v - middle) / spread) if s else None for v, s in zip(numbers, sound)]


def numbers_of(study: Study, steps: Sequence[Step]) -> list[Number]:
    """What the tables and label maps that steps have made tell in single numbers."""
    found: dict[str, Number] = {}
    for step in steps:
        about = operation_called(step.operation)
        title = about.title if about is not None else step.title
        for things in step.outputs.values():
            for thing in things:
                for number in _of_thing(study, thing, title):
                    found[number.name] = number
    return list(found.values())


def _of_thing(study: Study, thing: Thing, title: str) -> list[Number]:
    record = study.items.get(thing.item) if thing.item is not None else None
    kind = KINDS.get(record.kind) if record is not None else None
    if record is None or kind is None or not (kind.is_read or kind.edited):
        return []
    opened = study.thing(record.id)
    if isinstance(opened, LabelMap):
        one = opened.space.voxel_volume
        return [
            Number(f"{row.name}, volume", float(opened.counts[row.number]) * one, f"{opened.space.unit}³")
            for row in list(opened.table)[:REPORTED]
        ]
    return _of_table(opened, title) if isinstance(opened, Table) else []


def _of_table(table: Table, title: str) -> list[Number]:
    names = [c.name for c in table.columns]
    found = []
    for name in MEANT:
        if name in names:
            values = np.array([np.nan if v is None else v for v in table.column(name)], float)
            if np.isfinite(values).any():
                unit, words = table.columns[names.index(name)].unit, name.replace("_", " ")
                found.append(Number(f"{words}, mean", float(np.nanmean(values)), unit))
                found.append(Number(f"{words}, highest", float(np.nanmax(values)), unit))
    if found:
        return found
    if table.count > REPORTED or not table.rows:
        return []
    if len(names) in (2, 3) and isinstance(table.rows[0][0], str):  # a report: what, how much, unit
        for row in table.rows:
            if _is_number(row[1]):
                unit = str(row[2] or "") if len(row) > 2 else table.columns[1].unit
                found.append(Number(f"{title}: {row[0]}", float(row[1]), unit))
        return found
    named = next((n for n, name in enumerate(names) if name in ("label", "name", "class")), None)
    for cells in table.rows[:12]:
        whose = "" if named is None else f" {cells[named]}"
        for told, value in zip(table.columns, cells):
            if _is_number(value) and told.name not in PLACES:
                found.append(Number(f"{title}:{whose} {told.name.replace('_', ' ')}", float(value), told.unit))
    return found[:REPORTED]


def _is_number(value: Any) -> bool:
    return isinstance(value, (int, float)) and not isinstance(value, bool) and bool(np.isfinite(value))


def among_all(units: dict[str, list[Number]]) -> dict[str, list[Number]]:
    """The same with how far each number lies from those of the same name of the other units."""
    names = list(dict.fromkeys(number.name for numbers in units.values() for number in numbers))
    zs: dict[tuple[str, str], float | None] = {}
    for name in names:
        those = {key: n.value for key, numbers in units.items() for n in numbers if n.name == name}
        zs |= {(key, name): z for key, z in zip(those, robust_z(list(those.values())))}
    return {key: [Number(n.name, n.value, n.unit, zs[key, n.name]) for n in numbers] for key, numbers in units.items()}
