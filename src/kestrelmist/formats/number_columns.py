"""Columns of numbers in a text: CSV and TSV, and plain columns with blanks between them, with a line of headings or
without."""

from __future__ import annotations

import csv
import io
import re
from pathlib import Path

from ..core.cells import as_written
from ..core.errors import Trouble
from ..core.table import Column

MOST = 1 << 28
"""Bytes of a text that is read."""
LOOK = 1 << 16
"""Bytes by which a text is told."""
MISSING = ("", "n/a", "na", "nan", "none", "null")
"""Cells that hold no number; BIDS writes n/a."""


def is_numbers(path: Path, start: bytes) -> bool:
    """Whether a file begins like a text with a number in one of its first lines."""
    if b"\0" in start:
        return False
    with open(path, "rb") as stream:
        text = stream.read(LOOK).decode("utf-8-sig", "ignore")
    words = re.split(r"[\s,;]+", " ".join(text.splitlines()[:4]))
    return any(_number(word) is not None for word in words)


def columns_of_numbers(path: Path) -> list[tuple[Column, list[float]]]:
    """The columns that hold numbers alone, NaN where there is none; those without a heading are called "column 1" and
    so on, by their place.

    Raises
    ------
    Trouble
        When the file is no text, its rows differ in length, or no column holds numbers.
    """
    rows = _rows(path)
    heads = None
    if rows and any(_number(cell) is None and cell.strip().casefold() not in MISSING for cell in rows[0]):
        heads, rows = rows[0], rows[1:]
    elif rows and all(cell.strip().casefold() in MISSING for cell in rows[0]):
        rows = rows[1:]
    if not rows:
        raise Trouble("There is nothing in this table", "choose another file", path)
    width = len(heads or rows[0])
    wrong = next((n for n, row in enumerate(rows, 1 + (heads is not None)) if len(row) != width), None)
    if wrong:
        raise Trouble(f"Line {wrong} of this table has another number of cells than the first", "mend it", path)
    names = [(heads[n].strip() if heads else "") or f"column {n + 1}" for n in range(width)]
    found = []
    for n, name in enumerate(names):
        texts = [row[n] for row in rows]
        values = [_number(text) for text in texts]
        if all(v is not None or t.strip().casefold() in MISSING for v, t in zip(values, texts)) and any(
            v is not None for v in values
        ):
            unit = _unit(names, rows, name)
            found.append((Column(name, unit), [float("nan") if v is None else v for v in values]))
    if not found:
        raise Trouble("There is no column of numbers in this file", "save it with a column of values", path)
    return found


def _unit(names: list[str], rows: list[list[str]], name: str) -> str:
    """What the column `x_unit` says of `x`, when it says the same in every row."""
    if f"{name}_unit" not in names:
        return ""
    n = names.index(f"{name}_unit")
    said = {row[n] for row in rows}
    return said.pop() if len(said) == 1 else ""


def _rows(path: Path) -> list[list[str]]:
    if path.stat().st_size > MOST:
        raise Trouble("This file is too large for a table of courses", "choose the table", path)
    try:
        text = path.read_text(encoding="utf-8-sig")
    except UnicodeDecodeError as error:
        raise Trouble("This is no table in UTF-8 text", "save it again as CSV", path) from error
    lines = [line for line in text.splitlines() if line.strip()]
    while len(lines) > 1 and lines[0].lstrip().startswith(("#", "%")) and not _same_width(lines[0], lines[1]):
        lines = lines[1:]  # a note above the columns
    lines = [line.lstrip().lstrip("#%").lstrip() if n == 0 else line for n, line in enumerate(lines)]
    lines = [line for line in lines if not line.lstrip().startswith(("#", "%"))]
    mark = next((mark for mark in "\t,;" if lines and mark in lines[-1]), None)
    if mark is None:
        return [line.split() for line in lines]
    try:
        return [[as_written(cell) for cell in row] for row in csv.reader(io.StringIO("\n".join(lines)), delimiter=mark)]
    except csv.Error as error:
        raise Trouble("This is no table that can be read", "save it again as CSV", path) from error


def _same_width(head: str, row: str) -> bool:
    return len(re.split(r"[\s,;]+", head.strip(" #%\t"))) == len(re.split(r"[\s,;]+", row.strip()))


def _number(text: str) -> float | None:
    try:
        value = float(text.strip().replace("−", "-"))
    except ValueError:
        return None
    return None if value != value else value
