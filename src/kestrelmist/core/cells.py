"""Text in cells that a spreadsheet would take for a formula."""

from __future__ import annotations

import re
from typing import Any

FORMULA = re.compile("'*[=+\\-@\t\r]")
"""How a text begins that spreadsheets work out instead of showing, or that has been kept from it."""


def harmless(cell: Any) -> Any:
    """A cell for a text file of a table: text that a spreadsheet would work out gets an apostrophe before it, which
    spreadsheets take for "this is text". Numbers stay as they are.

    >>> harmless("=1+1"), harmless("-3.5"), harmless(-3.5), harmless("left"), harmless("'tis")
    ("'=1+1", '-3.5', -3.5, 'left', "'tis")
    """
    if not isinstance(cell, str) or not FORMULA.match(cell) or _number(cell):
        return cell
    return f"'{cell}"


def as_written(cell: str) -> str:
    """The text of a cell without the apostrophe that `harmless` puts before it.

    >>> as_written("'=1+1"), as_written("'90s"), as_written(harmless("'=x"))
    ('=1+1', "'90s", "'=x")
    """
    return cell[1:] if cell[:1] == "'" and FORMULA.match(cell) else cell


def _number(text: str) -> bool:
    try:
        float(text)
    except ValueError:
        return False
    return "_" not in text
