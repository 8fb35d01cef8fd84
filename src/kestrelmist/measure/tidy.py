"""A table with one quantity a row, as statistics programs like it: of what, quantity, value, unit, uncertainty."""

from __future__ import annotations

import math
from typing import Literal

from ..core.table import UNCERTAINTY, Column, Table

Rows = Literal["one region", "one quantity"]
EXPANDED = "95 %"


def by_quantity(table: Table) -> Table:
    """The same numbers, one a row; what has none is left out.

    Columns of text and whole numbers tell what a row is of and go along; each other column becomes rows. The column
    `uncertainty_is` says whether an uncertainty is a standard one, or one of 95 %.
    """
    measured = table.measured_columns
    told = [n for n, c in enumerate(table.columns) if n not in measured and c.name not in table.uncertainties]
    places = {column.name: n for n, column in enumerate(table.columns)}
    made = Table(
        table.title,
        [
            *(table.columns[n] for n in told),
            Column("quantity"),
            Column("value", figures=6, sure_by="uncertainty"),
            Column("unit"),
            Column("uncertainty", shown_as="±", figures=2),
            Column("uncertainty_is"),
        ],
    )
    for row in table.rows:
        for n in measured:
            column, value = table.columns[n], row[n]
            if value is None or not math.isfinite(value):
                continue
            by = places.get(column.sure_by or f"{column.name}{UNCERTAINTY}")
            spread = row[by] if by is not None else None
            kind = ""
            if by is not None and spread is not None and math.isfinite(spread):
                spread = float(spread) * column.sure_times
                kind = EXPANDED if EXPANDED in table.columns[by].shown_as else "standard"
                kind = kind if column.sure_by else "not said"
            quantity = (column.name, float(value), column.unit, spread if kind else None, kind)
            made.rows.append((*(row[m] for m in told), *quantity))
    return made
