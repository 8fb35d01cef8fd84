"""A table of boxes on pictures, read from CSV in whatever separator and encoding it has."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from pathlib import Path

from ...core.cells import as_written
from ...core.errors import Trouble
from ...core.table import Column, Table
from .box_columns import Columns, Layout, guessed

SEPARATORS = (",", ";", "\t", "|")
MOST = 1 << 30
BEYOND = 1e-3
"""Share of a side by which a box may reach beyond it: numbers in tables are rounded."""
LOOK = 60
"""Lines by which the separator is told."""


@dataclass(frozen=True)
class Box:
    """A box in pixels: left, top, width, height; pixel 0 reaches from 0 to 1."""

    left: float
    top: float
    width: float
    height: float

    def scaled(self, x: float, y: float) -> Box:
        return Box(self.left * x, self.top * y, self.width * x, self.height * y)


@dataclass(frozen=True)
class Row:
    """A line of the table: a picture's name, its box (None: a picture without one), and what is said of it."""

    line: int
    picture: str
    box: Box | None
    label: str = ""
    subject: str = ""
    part: str = ""
    size: tuple[float, float] | None = None
    """Columns and rows of the picture that the box is counted in; None for its own."""
    relative: bool = False
    """The box is counted in shares of the picture's sides."""


@dataclass
class BoxTable:
    """Rows, and what could not be read: (line, sentence)."""

    rows: list[Row]
    columns: Columns
    heads: list[str]
    encoding: str
    separator: str
    problems: list[tuple[int, str]] = field(default_factory=list)
    """Rows that are left out."""
    mended: list[tuple[int, str]] = field(default_factory=list)
    """Rows that were read otherwise than they stand."""


def read_boxes(
    path: Path, said: str = "", layout: Layout = "auto", size: tuple[float, float] | None = None
) -> BoxTable:
    """A table of boxes.

    Parameters
    ----------
    said, layout
        What is known better than can be guessed; see `box_columns.guessed`.
    size : two numbers
        Columns and rows of the pictures that all boxes are counted in, when it is not their own.

    Raises
    ------
    Trouble
        When the file is no table, or its columns cannot be told.
    """
    text, encoding = _text(path)
    separator = _separator(text)
    lines = csv.reader(io.StringIO(text), delimiter=separator)
    heads = _heads(lines)
    if len(heads) < 2 and not (said and heads):
        raise Trouble("This file is no table with columns", "save it as CSV, with a line of headings", path)
    try:
        columns = guessed(heads, said, layout)
    except Trouble as trouble:
        raise Trouble(trouble.what, trouble.do, path) from None
    table = BoxTable([], columns, heads, encoding, separator)
    _fill(table, lines, size)
    if not table.rows and not table.problems:
        raise Trouble("This table has no rows", "choose one that has", path)
    return table


def headings(path: Path) -> list[str]:
    """The headings of a table of boxes; raises Trouble when it cannot be read."""
    text, _ = _text(path)
    return _heads(csv.reader(io.StringIO(text), delimiter=_separator(text)))


def _heads(lines: Iterable[list[str]]) -> list[str]:
    return [head.strip() for head in next((row for row in lines if any(cell.strip() for cell in row)), [])]


def _text(path: Path) -> tuple[str, str]:
    try:
        if path.stat().st_size > MOST:
            raise Trouble("This file is too large for a table of boxes", "choose the table", path)
        raw = path.read_bytes()
    except OSError as error:
        raise Trouble(f"This table cannot be read ({error.strerror})", "choose a file that can be", path) from error
    for encoding in ("utf-16",) if raw[:2] in (b"\xff\xfe", b"\xfe\xff") else ("utf-8-sig", "cp1252", "latin-1"):
        try:
            text = raw.decode(encoding)
        except UnicodeDecodeError:
            continue
        if "\0" in text[:4096]:
            break
        return text, encoding
    raise Trouble("This file is no text", "choose a table saved as CSV", path)


def _separator(text: str) -> str:
    """The one by which most of the first lines have the same number of cells, and several."""
    lines = [line for line in text.splitlines()[: 2 * LOOK] if line.strip()][:LOOK]
    best, most = ",", 0.0
    for mark in SEPARATORS:
        counts = [len(row) for row in csv.reader(lines, delimiter=mark)]
        if not counts or counts[0] < 2:
            continue
        score = sum(n == counts[0] for n in counts) / len(counts) + 0.001 * min(counts[0], 50)
        if score > most:
            best, most = mark, score
    return best


def _fill(table: BoxTable, lines: Iterable[list[str]], size: tuple[float, float] | None) -> None:
    where, comma = table.columns.where, table.separator != ","
    seen: dict[Row, int] = {}
    for line, cells in enumerate(lines, 2):
        if not any(cell.strip() for cell in cells):
            continue

        def cell(role: str, cells: list[str] = cells) -> str:
            n = where.get(role)
            return as_written(cells[n].strip()) if n is not None and n < len(cells) else ""

        picture = cell("picture")
        if not picture:
            table.problems.append((line, "names no picture"))
            continue
        try:
            box = _box([cell(k) for k in "abcd"], table.columns.layout, comma) if "a" in where else None
            own = [_number(cell(k), comma) for k in ("columns", "rows")] if cell("columns") and cell("rows") else None
        except ValueError:
            table.problems.append((line, f"has a box that is no four numbers: {' '.join(cell(k) for k in 'abcd')}"))
            continue
        if box is not None and not (box.width > 0 and box.height > 0):
            table.problems.append((line, f"has an empty box: {box.width:g} × {box.height:g}"))
            continue
        relative = box is not None and max(box.left + box.width, box.top + box.height) <= 1.0 + 1e-6 and own is None
        stated = (own[0], own[1]) if own is not None else size
        said = cell("class"), cell("subject"), cell("part")
        row = Row(line, picture, box, *said, stated, relative and size is None)
        earlier = seen.setdefault(replace(row, line=0), line)
        if earlier != line:
            table.problems.append((line, f"says the same as line {earlier}"))
            continue
        table.rows.append(row)
        if box is not None and _turned_round([cell(k) for k in "abcd"], table.columns.layout, comma):
            table.mended.append((line, "has its corners the other way round, and was turned"))


def _box(cells: list[str], layout: str, comma: bool) -> Box | None:
    if not any(cells):
        return None  # a picture on which there is nothing
    a, b, c, d = (_number(one, comma) for one in cells)
    if layout == "two corners":
        return Box(min(a, c), min(b, d), abs(c - a), abs(d - b))
    if layout == "centre and size":
        return Box(a - c / 2, b - d / 2, c, d)
    return Box(a, b, c, d)


def _turned_round(cells: list[str], layout: str, comma: bool) -> bool:
    if layout != "two corners":
        return False
    a, b, c, d = (_number(one, comma) for one in cells)
    return a > c or b > d


def _number(text: str, comma: bool) -> float:
    value = float(text.replace(",", ".") if comma else text)
    if not -1e9 < value < 1e9:  # neither infinite nor no number
        raise ValueError
    return value


def box_in(row: Row, columns: int, rows: int) -> Box | None:
    """The box of a row in pixels of its picture, of so many columns and rows."""
    if row.box is None:
        return None
    if row.relative:
        return row.box.scaled(columns, rows)
    return row.box if row.size is None else row.box.scaled(columns / row.size[0], rows / row.size[1])


def lies_out(row: Row, picture: tuple[int, int] | None = None) -> bool:
    """Whether part of a row's box lies outside its picture, of so many columns and rows; False where nobody knows how
    large that is."""
    size = picture or row.size or ((1.0, 1.0) if row.relative else None)
    box = box_in(row, *size) if size is not None else None
    if box is None or size is None:
        return False
    x, y = BEYOND * size[0], BEYOND * size[1]
    ends = box.left + box.width - size[0], box.top + box.height - size[1]
    return box.left < -x or box.top < -y or ends[0] > x or ends[1] > y


def table_of(rows: Iterable[Row]) -> Table:
    """Rows as a table that `read_boxes` reads as they are: the corner and the size of each box, and the columns and
    rows that it is counted in, 1 and 1 for shares of the picture's sides."""
    heads = ("picture", "subject", "class", "part", "left", "top", "width", "height", "image_width", "image_height")
    table = Table("Boxes", [Column(name, "", 4) for name in heads])
    for row in rows:
        box = (None,) * 4 if row.box is None else (row.box.left, row.box.top, row.box.width, row.box.height)
        size = (1.0, 1.0) if row.relative else row.size or (None, None)
        table.rows.append((row.picture, row.subject, row.label, row.part, *box, *size))
    return table
