"""Rows of a table that are inside a gate become a class."""

from __future__ import annotations

from typing import Any

import numpy as np

from ...core.errors import Trouble
from ...core.gate import Gate
from ...core.names import typed_name
from ...core.operation import operation
from ...core.table import Column, Table


@operation(
    "measure",
    "Gate a table",
    name="gate-table",
    keywords="gate cytometry scatter plot histogram subset population class threshold filter cells rows polygon range",
    called={"x": "Column", "y": "And column", "within": "Within", "name": "Class", "others": "Class of the others",
            "log_x": "Logarithmic", "log_y": "Logarithmic, the other", "column": "Kept in column"},
    rare="others log_x log_y column",
    group="Tables",
    methods="Rows were classed by gates on measured columns",
)  # fmt: skip
def gate_table(
    table: Table,
    x: str,
    within: str,
    y: str = "",
    *,
    name: str = "Gated",
    others: str = "",
    log_x: bool = False,
    log_y: bool = False,
    column: str = "class",
) -> Table:
    """Give the rows that are inside a gate a class; the others keep theirs.

    Rows on the border are inside; rows without a number are outside. Gates go one after the other: of a row that two
    hold, the later one counts.

    Parameters
    ----------
    x, y : text
        Columns; with the second left out the gate is a range of the first.
    within : text
        "50..200" is a range, "1,2 3,4 5,6" an area by its corners, in the columns' own units. An end may be inf.
    name : text
        The class.
    others : text
        The class of rows outside that have none yet; none when left out.
    log_x, log_y : yes or no
        Whether sides of an area run straight between logarithms, as where it is drawn on a logarithmic axis.
    column : text
        Where classes are kept.

    Returns
    -------
    Table
        The same rows, with the class in a column; the title says how many are inside.

    Raises
    ------
    Trouble
        When a column is not there or holds words, what is typed is no gate, or nothing is inside.
    """
    called, kept = typed_name(name), typed_name(column)
    if not called or not kept:
        raise Trouble("A class, and the column it is kept in, need names", "type some")
    gate = Gate.typed(x, y, within, log_x, log_y)
    inside = gate.inside(table)
    count = int(np.count_nonzero(inside))
    if not count:
        raise Trouble(f"No row of “{table.title}” lies within {gate.within[:60]}", "draw the gate round some")
    at = next((n for n, one in enumerate(table.columns) if one.name == kept), None)
    if at is not None and any(not isinstance(v, str | None) for v in list(table.values[at])):
        raise Trouble(f"Column “{kept}” holds something else than classes", "keep them in another column")
    classes = np.array(["" if v is None else v for v in table.values[at]] if at is not None else [""] * table.count,
                       object)  # fmt: skip
    classes[inside] = called
    if others.strip():
        classes[~inside & (classes == "")] = typed_name(others)
    columns = list(table.columns)
    values: list[Any] = list(table.values)
    if at is None:
        columns.append(Column(kept))
        values.append(classes)
    else:
        values[at] = classes
    told = f"{count:,} of {table.count:,}".replace(",", " ")
    title = f"{table.title.partition(' · ')[0]} · {called}: {told} ({100 * count / table.count:.3g} %)"
    return Table(title, columns, source=lambda: values, count=table.count)
