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
from .number_columns import columns_of_numbers, is_numbers
from .table_files import read_parquet


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
            if all(curve.mark is not None for curve in curves):
                return _each_with_places(curves)
            raise Trouble(f"“{other.name}” and “{first.name}” do not have the same times", "save them one by one")
    columns: list[Column] = []
    if times:
        columns.append(_place_column(first))
    for curve in curves:
        columns.append(Column(_free(curve.name or "value", columns), curve.unit, 6))
    table = Table("Sections" if first.mark is not None else "Courses", columns)
    along = first.places()
    for n in range(first.values.size):
        row = [float(curve.values[n]) if np.isfinite(curve.values[n]) else None for curve in curves]
        place = [float(along[n]) if first.along is not None else n + 1] if times else []
        table.rows.append((*place, *row))
    return table


def _place_column(curve: Curve, number: str = "") -> Column:
    if curve.along is None:
        return Column(f"volume{number}")
    name = "time" if curve.mark is None else "distance"
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


PLACES = ("time", "distance", "volume")
"""Headings of what is no curve but says where the values of the others stand."""


def read_curves(path: Path, part: str | None = None) -> list[Curve]:
    """The curves of a file: its columns of numbers, with times or distances from the first one when that is called so.
    One that only counts volumes is left out.

    Parameters
    ----------
    part : str, optional
        Names of the columns that are wanted, with commas between them; all when left out.

    Raises
    ------
    Trouble
        When there is no column of numbers, or none of a name.
    """
    if path.suffix.lower() == ".parquet":
        return curves_of(_numbers_in(read_parquet(path)), path.name, part, path)
    return curves_of(columns_of_numbers(path), path.name, part, path)


def curves_of(
    columns: list[tuple[Column, list[float]]], called: str, part: str | None = None, path: Path | None = None
) -> list[Curve]:
    """Columns of numbers as curves; see `read_curves`. `called` is what a person calls where they come from."""
    place = next(((c, v) for c, v in columns[:1] if c.name.casefold() in PLACES and len(columns) > 1), None)
    own = [(c, v) for c, v in columns if place is None or c is not place[0]]
    wanted = None if part is None else [name.strip() for name in part.split(",") if name.strip()]
    if wanted is not None:
        known = {column.name.casefold(): (column, values) for column, values in own}
        missing = next((name for name in wanted if name.casefold() not in known), None)
        if missing is not None:
            raise Trouble(f"“{called}” has no column “{missing}” of numbers", f"it has {_names(own)}", path)
        own = [known[name.casefold()] for name in wanted]
    along = None if place is None or place[0].name.casefold() == "volume" else (np.array(place[1]), place[0].unit)
    stem = called.rpartition(".")[0] or called
    return [
        Curve(
            np.array(values),
            None if along is None else along[0],
            "" if along is None else along[1],
            column.unit,
            name=stem if len(columns) - (place is not None) == 1 else column.name,
        )
        for column, values in own
    ]


def curves_of_table(table: Table) -> list[Curve]:
    """The columns of numbers of a table as curves; raises Trouble when there is none."""
    return curves_of(_numbers_in(table), table.title)


def _numbers_in(table: Table) -> list[tuple[Column, list[float]]]:
    columns = [
        (column, [float("nan") if v is None else float(v) for v in values])
        for column, values in zip(table.columns, table.values)
        if len(values) and all(v is None or isinstance(v, (int, float, np.number)) for v in values)
    ]
    if not columns:
        raise Trouble(f"There is no column of numbers in “{table.title}”", "choose another table")
    return columns


def _names(columns: list[tuple[Column, list[float]]]) -> str:
    return ", ".join(column.name for column, _ in columns)


def read_curve(path: Path) -> Curve:
    """The one curve of a file; raises Trouble when it holds several."""
    return only_curve(read_curves(path), path.name, path)


def only_curve(curves: list[Curve], called: str, path: Path | None = None) -> Curve:
    """The one curve there is; raises Trouble, with what can be chosen, when there are several."""
    if len(curves) != 1:
        told = ", ".join(f"{called}#{curve.name}" for curve in curves[:9]) + (", …" if len(curves) > 9 else "")
        raise Trouble(f"“{called}” holds {len(curves)} curves, and one is wanted", f"choose one of: {told}", path)
    return curves[0]


def write_curve(path: Path, curve: Curve, progress: Progress | None = None) -> None:
    """Write a curve as CSV with its times."""
    curve_table([curve]).save_csv(path)


register(
    Format(
        "text in columns",
        (".csv", ".tsv", ".txt"),
        read_curve,
        write_curve,
        (".csv",),
        fits=is_numbers,
        holds=("curve",),
        listed=False,
        any_name=True,
        read_parts=read_curves,
    )
)
register(
    Format(
        "columns of Parquet",
        (".parquet",),
        read_curve,
        starts=(b"PAR1",),
        holds=("curve",),
        listed=False,
        read_parts=read_curves,
    )
)
