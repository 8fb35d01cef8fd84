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
    """Curves as a table, a column each, with the times or distances in the first one when they have them in common.
    Sections of different lengths have a column of distances each.

    Raises
    ------
    Trouble
        When courses differ in length or in their times.
    """
    first = curves[0]
    for other in curves[1:]:
        if other.values.size != first.values.size or not np.allclose(other.places(), first.places()):
            if all(curve.line is not None for curve in curves):
                return _each_with_places(curves)
            raise Trouble(f"“{other.name}” and “{first.name}” do not have the same times", "save them one by one")
    columns: list[Column] = []
    if times:
        columns.append(_place_column(first))
    for curve in curves:
        columns.append(Column(_free(curve.name or "value", columns), curve.unit, 6))
    table = Table("Sections" if first.line is not None else "Courses", columns)
    along = first.places()
    for n in range(first.values.size):
        row = [float(curve.values[n]) if np.isfinite(curve.values[n]) else None for curve in curves]
        place = [float(along[n]) if first.along is not None else n + 1] if times else []
        table.rows.append((*place, *row))
    return table


def _place_column(curve: Curve, number: str = "") -> Column:
    if curve.along is None:
        return Column(f"volume{number}")
    name = "time" if curve.line is None else "distance"
    return Column(f"{name}{number}", curve.along_unit, decimals_for(0.0, float(curve.along.max())) + 2)


def _free(name: str, columns: list[Column]) -> str:
    known, free, n = {column.name for column in columns}, name, 2
    while free in known:
        free, n = f"{name} {n}", n + 1
    return free


def _each_with_places(curves: list[Curve]) -> Table:
    columns: list[Column] = []
    for n, curve in enumerate(curves, 1):
        columns.append(_place_column(curve, f" {n}"))
        columns.append(Column(_free(curve.name or "value", columns), curve.unit, 6))
    table = Table("Sections", columns)
    for n in range(max(curve.values.size for curve in curves)):
        row: list[float | None] = []
        for curve in curves:
            there = n < curve.values.size
            row.append(float(curve.places()[n]) if there else None)
            row.append(float(curve.values[n]) if there and np.isfinite(curve.values[n]) else None)
        table.rows.append(tuple(row))
    return table


def read_curve(path: Path) -> Curve:
    """The curve in a CSV file: its last column of numbers; the first one, when there are two and it is called time,
    distance or volume, gives the times.

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
    known = head is not None and head.name.casefold() in ("time", "distance")
    return Curve(
        np.array(values), np.array(along) if known else None, head.unit if known else "", column.unit, name=path.stem
    )


def write_curve(path: Path, curve: Curve, progress: Progress | None = None) -> None:
    """Write a curve as CSV with its times."""
    curve_table([curve]).save_csv(path)


register(Format("CSV curve", (".csv",), read_curve, write_curve, holds=("curve",), listed=False))
