"""Tables that grow over sessions: rows are added to a file, and what was measured again takes the place of before."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from ...core.errors import Trouble
from ...core.operation import operation
from ...core.parameter import NewPath
from ...core.table import Column, Table
from ...formats.format import format_of
from ...formats.saving import save_thing

COUNTED = ("voxels", "pixels", "scale", "class", "overlaps", "note", "value_unit", "unit", "uncertainty_is")
"""Columns of words and whole numbers that were measured, or say how: they do not tell which row is which."""


@operation(
    "measure",
    "Add to a table file",
    name="append-table",
    keywords="append merge csv parquet collect results sessions spreadsheet accumulate database export",
    called={"to": "File"},
    group="Tables",
    methods="",
)
def append_table(table: Table, to: NewPath) -> Table:
    """Add the rows of a table to a CSV or Parquet file, which is made when it is not there.

    A row that is there already (the same subject, image, label, mark, quantity … in all columns of words and whole
    numbers) is replaced by the new one, so that nothing is there twice. Columns that one of the two lacks stay empty.

    Parameters
    ----------
    to : path
        .csv or .parquet.

    Returns
    -------
    Table
        How many rows were added, replaced, and are there now.

    Raises
    ------
    Trouble
        When the file holds no table, or counts a column in another unit, or cannot be written.
    """
    to = Path(to)
    known = format_of(to, "table") if to.exists() else None
    if to.suffix.lower() not in (".csv", ".parquet") or (to.exists() and known is None):
        raise Trouble("A table is kept as .csv or .parquet", "name such a file", to)
    before: Table = known.open(to) if known is not None else Table(table.title, table.columns)
    _require_same_units(before, table, to)
    columns = [*before.columns, *(c for c in table.columns if c.name not in {b.name for b in before.columns})]
    keys = [c.name for c in table.columns if _tells(c, table)]
    rows: dict[Any, tuple] = {}
    for n, row in enumerate(_in_columns(before, columns)):
        rows[_key(row, columns, keys) or n] = row
    there, added, replaced = len(rows), 0, 0
    for row in _in_columns(table, columns):
        key = _key(row, columns, keys) or ("new", len(rows))
        replaced += key in rows
        added += key not in rows
        rows[key] = row
    made = Table(before.title, columns, rows.values())
    save_thing(to, made)
    said = [Column(name) for name in ("file", "before", "added", "replaced", "now")]
    return Table(f"Added to {to.name}", said, [(str(to), there, added, replaced, len(rows))])


def _tells(column: Column, table: Table) -> bool:
    """Whether a column tells rows apart: one of words and whole numbers, as far as that is known of a file."""
    if column.holds_numbers or column.name in COUNTED:
        return False
    return not any(isinstance(cell, float) for cell in table.column(column.name))


def _require_same_units(before: Table, table: Table, to: Path) -> None:
    units = {column.name: column.unit for column in before.columns}
    for column in table.columns:
        known = units.get(column.name, column.unit)
        if known != column.unit and (known or before.count):
            raise Trouble(
                f"This file has {column.name} in {known or 'no unit'}, and the table in {column.unit or 'no unit'}",
                "add it to another file",
                to,
            )


def _in_columns(table: Table, columns: list[Column]) -> list[tuple]:
    """Its rows, in the order of other columns."""
    at = {column.name: n for n, column in enumerate(table.columns)}
    order = [at.get(column.name) for column in columns]
    return [tuple(None if n is None else row[n] for n in order) for row in table.rows]


def _key(row: tuple, columns: list[Column], keys: list[str]) -> tuple:
    """What tells a row from others: its cells of words and whole numbers, as a file holds them."""
    named = {column.name: cell for column, cell in zip(columns, row)}
    return tuple("" if named.get(name) is None else str(named[name]) for name in keys)
