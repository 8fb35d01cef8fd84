"""Marks as CSV: a row a point, with the number of its mark. A table of plain x and y is one of points."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from ..core.digits import decimals_for
from ..core.errors import Trouble
from ..core.geometry.mark import Mark
from ..core.geometry.marks import Marks
from ..core.progress import Progress
from ..core.safe_write import written_whole
from ..core.table import Column, Table
from ..core.world import World
from .format import Format, register
from .table_files import read_csv

MORE = ("normal", "depth", "place", "across", "sure", "text", "colour", "width", "letters", "unit", "digits",
        "spread", "notes")  # fmt: skip
"""What else a mark knows, as JSON in one cell of its first row."""


def mark_rows(marks: Marks) -> Table:
    """Marks as a table: a row a point, with units beside positions."""
    unit = marks.unit
    places = [value for mark in marks for point in mark.points for value in point]
    digits = max(3, decimals_for(min(places), max(places))) if places else 3
    columns = [Column("mark"), Column("name"), Column("shape"), Column("class"), Column("point")]
    columns += [Column(axis, unit, digits) for axis in "xyz"]
    columns += [Column("more", hidden=True), Column("world", hidden=True)]
    table = Table(marks.name, columns)
    world = json.dumps(marks.world.as_dict())
    for mark in marks:
        facts = {name: value for name, value in mark.as_dict().items() if name in MORE}
        for n, point in enumerate(mark.points, 1):
            more = (json.dumps(facts) if facts else None, world) if n == 1 else (None, None)
            table.rows.append((mark.id, mark.name, mark.shape, mark.cls, n, *point, *more))
    return table


def write_mark_table(path: Path, marks: Marks, progress: Progress | None = None) -> None:
    """Write marks as CSV."""
    with written_whole(path) as stream:
        stream.write(mark_rows(marks).to_csv().encode())


def read_mark_table(path: Path) -> Marks:
    """Marks from CSV with columns x and y, perhaps z, and perhaps mark, name, shape, class; `unit` is "" when the file
    does not say in which it is.

    Raises
    ------
    Trouble
        When there is no x and y, a cell holds no number, or a mark has not as many points as its shape.
    """
    table = read_csv(path)
    by_name = {column.name.casefold(): (column, values) for column, values in zip(table.columns, table.values)}
    if not {"x", "y"} <= set(by_name):
        raise Trouble("A table of marks has columns x and y", "name them so", path)
    unit = by_name["x"][0].unit

    def column(name: str) -> Any:
        return by_name[name][1] if name in by_name else [None] * table.count

    rows = zip(*map(column, ("mark", "name", "shape", "class", "x", "y", "z", "more", "world")))
    whole: dict[int, dict[str, Any]] = {}
    world = World()
    for n, (mark, name, shape, cls, x, y, z, more, said) in enumerate(rows, 2):
        try:
            number = n - 1 if mark is None else int(mark)
            facts = whole.setdefault(number, {"id": number, "shape": str(shape or "point"), "points": []})
            facts["points"].append([float(x), float(y), float(z or 0.0)])
            if len(facts["points"]) == 1:
                facts |= {"name": "" if name is None else str(name), "cls": int(cls or 0)}
                facts |= {k: v for k, v in json.loads(more or "{}").items() if k in MORE}
                world = World.from_dict(json.loads(said)) if said else world
        except (TypeError, ValueError) as error:
            raise Trouble(
                f"Line {n} of this table of marks holds no position", "mend it or leave it out", path
            ) from error
    marks: dict[int, Mark] = {}
    for number, facts in whole.items():
        try:
            marks[number] = Mark.from_dict(facts)
        except Trouble as trouble:
            raise Trouble(f"Mark {number} of this table: {trouble.what}", trouble.do, path) from trouble
    if not marks and "mark" not in by_name:  # of our own there may be none: all have been deleted
        raise Trouble("There is no mark in this table", "choose another file", path)
    return Marks(marks, world, unit, path.name.partition(".")[0])


register(Format("CSV of marks", (".csv",), read_mark_table, write_mark_table, holds=("marks",), listed=False))
