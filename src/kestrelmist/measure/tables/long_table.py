"""Any table with one quantity a row, as statistics programs like it."""

from __future__ import annotations

from ...core.errors import Trouble
from ...core.operation import operation
from ...core.table import Table
from ..tidy import by_quantity


@operation(
    "measure",
    "A row for each quantity",
    name="long-table",
    keywords="tidy melt long format narrow unpivot stack columns statistics r pandas",
    group="Tables",
)
def long_table(table: Table) -> Table:
    """Turn a table with a column a quantity into one with a row a quantity: what it is of, quantity, value, unit,
    uncertainty, and whether that is a standard one or one of 95 %.

    Columns of words and whole numbers tell what a row is of and go along; what has no value is left out.

    Raises
    ------
    Trouble
        When the table has no measured columns.
    """
    made = by_quantity(table)
    if not made.count:
        raise Trouble(f"“{table.title}” has no measured columns", "choose a table of measures")
    return made
