"""A table as a picture, its words as words."""

from __future__ import annotations

from typing import Annotated

import numpy as np

from ..core.errors import Trouble
from ..core.operation import operation
from ..core.parameter import Between, NewPath, Unit
from ..core.quantity import pretty_unit
from ..core.safe_write import require_new
from ..core.table import Column, Table
from ..scene.colours import packed
from ..scene.painting import painter_for, write_page
from ..scene.primitives import INK, Page, Path, Primitive, Stroke, Words
from .paper import INCH, LETTERS

ROW, LETTER = 18.0, 0.56
"""Page units a row, and of a letter as a share of its size."""
MOST = 200
"""Rows of a picture."""


@operation(
    "report",
    "Table as a picture",
    name="table-picture",
    keywords="table figure export image print rows",
    called={"wide": "Wide", "dpi": "Dots an inch", "rows": "Rows at most", "replace_file": "In place of another"},
    rare="dpi replace_file rows",
    group="Pictures",
)
def table_picture(
    table: Table,
    *,
    to: NewPath,
    wide: Annotated[float, Unit("mm"), Between(20, 2000)] = 174.0,
    dpi: Annotated[float, Between(20, 2400)] = 300.0,
    rows: Annotated[int, Between(1, MOST)] = 40,
    replace_file: bool = False,
) -> Table:
    """Write a table as a picture, for a figure: names, units, and as many rows as find room.

    Parameters
    ----------
    to : path
        A new file: .svg and .pdf keep words as such; .png, .jpg, .tif.
    wide : mm
        On paper; words are set in 8 points, or smaller where columns are many.
    dpi : number
        Pixels to an inch.
    replace_file : bool
        Take the place of a file of that name.
    rows : whole number
        Those that are written at most; that more are left out stands below.
    replace_file : bool
        Take the place of a file of that name.

    Raises
    ------
    Trouble
        When the table has no columns, or the file cannot be written.
    """
    painter_for(to)
    require_new(to, replace_file)
    if not table.columns:
        raise Trouble(f"“{table.title}” has no columns", "choose another table")
    millimetres = INCH / dpi
    scale = LETTERS / millimetres
    pixels = max(64, round(wide / millimetres))
    over, height = laid(table, pixels / scale, rows)
    ground = np.full((max(16, round(height * scale)), pixels), packed("#FFFFFF"), np.uint32)
    facts = (("Table", table.title), ("Rows", str(min(rows, len(table.rows)))))
    write_page(Page(ground, over, scale, millimetres, table.title, facts, table.title), to)
    told = Table(f"Picture of {table.title}", [Column("rows"), Column("file")])
    told.rows.append((min(rows, len(table.rows)), to.name))
    return told


def laid(table: Table, wide: float, most: int) -> tuple[list[Primitive], float]:
    """The words of a table on a page so many units wide, and how tall that is."""
    shown = table.rows[:most]
    heads = [f"{c.name} ({pretty_unit(c.unit)})" if c.unit else c.name for c in table.columns]
    texts = [[_said(value, column) for value, column in zip(row, table.columns)] for row in shown]
    letters = [max(len(head), *(len(row[n]) for row in texts), 1) for n, head in enumerate(heads)]
    size = max(5.0, min(12.0, (wide - 10 * len(heads)) / (LETTER * sum(letters))))
    widths = np.array(letters, float) * size * LETTER + 10
    widths *= wide / widths.sum()
    lefts = np.concatenate(([0.0], np.cumsum(widths)))
    numbers = [all(isinstance(row[n], (int, float)) for row in shown) and bool(shown) for n in range(len(heads))]
    row_tall = ROW * size / 12
    found: list[Primitive] = []

    def put(n: int, y: float, text: str, weight: str) -> None:
        room = int(widths[n] / (size * LETTER))
        text = text if len(text) <= room + 2 else text[: max(1, room)] + "…"
        x = float(lefts[n + 1]) - 6 if numbers[n] else float(lefts[n]) + 2
        found.append(Words((x, y), text, size, INK, weight, "rs" if numbers[n] else "ls"))

    y = row_tall
    for n, head in enumerate(heads):
        put(n, y, head, "700")
    found.append(Path(((0, y + 5), (wide, y + 5)), Stroke(INK, 1.2)))
    y += 6
    for row in texts:
        y += row_tall
        for n, text in enumerate(row):
            put(n, y, text, "figures" if numbers[n] else "400")
    found.append(Path(((0, y + 5), (wide, y + 5)), Stroke(INK, 0.8)))
    if len(table.rows) > len(shown):
        y += row_tall + 2
        found.append(Words((2, y), f"{len(table.rows) - len(shown)} more rows", size, INK, "400", "ls"))
    return found, y + 10


def _said(value: object, column: Column) -> str:
    if value is None:
        return ""
    if isinstance(value, float):
        digits = getattr(column, "digits", None)
        text = f"{value:.{digits}f}" if isinstance(digits, int) and abs(value) < 1e7 else f"{value:.6g}"
        return text.replace("-", "−")
    return str(value)
