"""Curves as CSV: a column of times, with its unit, and one of values."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from ..core.curve import Curve
from ..core.digits import decimals_for
from ..core.errors import Trouble
from ..core.progress import Progress
from ..core.table import Column, Table
from .format import Format, register
from .table_files import read_csv


def curve_table(curves: list[Curve], times: bool = True) -> Table:
    """Curves as a table, a column each, with the times in the first one when they have them in common.

    Raises
    ------
    Trouble
        When they differ in length or in their times.
    """
    first = curves[0]
    for other in curves[1:]:
        if other.values.size != first.values.size or not np.allclose(other.places(), first.places()):
            raise Trouble(f"“{other.name}” and “{first.name}” do not have the same times", "save them one by one")
    along = first.places()
    columns, known = [], set()
    if times:
        named = "time" if first.along is not None else "volume"
        columns.append(
            Column(named, first.along_unit, decimals_for(0.0, float(along.max())) + 2 if named == "time" else 0)
        )
        known.add(named)
    for curve in curves:
        name, n = curve.name or "value", 2
        while name in known:
            name, n = f"{curve.name or 'value'} {n}", n + 1
        known.add(name)
        columns.append(Column(name, curve.unit, 6))
    table = Table("Courses", columns)
    for n in range(first.values.size):
        row = [float(curve.values[n]) if np.isfinite(curve.values[n]) else None for curve in curves]
        place = [float(along[n]) if first.along is not None else n + 1] if times else []
        table.rows.append((*place, *row))
    return table


def read_curve(path: Path) -> Curve:
    """The curve in a CSV file: its last column of numbers; the first one, when there are two and it is called time or
    volume, gives the times.

    Raises
    ------
    Trouble
        When there is no column of numbers.
    """
    table = read_csv(path)
    numbers = [
        (column, [float("nan") if v is None else float(v) for v in values])
        for column, values in zip(table.columns, table.values)
        if len(values) and all(v is None or isinstance(v, (int, float)) for v in values)
    ]
    if not numbers:
        raise Trouble("There is no column of numbers in this file", "save it as CSV with a column of values", path)
    column, values = numbers[-1]
    head, along = numbers[0] if len(numbers) > 1 else (None, None)
    known = head is not None and head.name.casefold() == "time"
    return Curve(
        np.array(values), np.array(along) if known else None, head.unit if known else "", column.unit, name=path.stem
    )


def write_curve(path: Path, curve: Curve, progress: Progress | None = None) -> None:
    """Write a curve as CSV with its times."""
    curve_table([curve]).save_csv(path)


register(Format("CSV curve", (".csv",), read_curve, write_curve, holds=("curve",), listed=False))
