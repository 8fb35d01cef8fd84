"""Class tables as CSV: number, name, colour, parent, code, note."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

from ..core.class_table import ClassRow, ClassTable
from ..core.errors import Trouble
from ..core.labels import PALETTE
from ..core.names import plain_name
from ..core.progress import Progress
from ..core.safe_write import written_whole
from ..core.table import Column, Table
from .format import Format, register
from .table_files import read_csv

COLUMNS = ("number", "name", "colour", "parent", "code", "note")
OTHERS = {"id": "number", "index": "number", "label": "name", "class": "name", "color": "colour"}
COLOUR = re.compile(r"#?[0-9A-Fa-f]{6}")


def class_rows(classes: ClassTable) -> Table:
    """A class table as a table that is read."""
    table = Table(classes.name, [Column(name) for name in COLUMNS])
    table.rows += [tuple(getattr(row, name) for name in COLUMNS) for row in classes]
    return table


def write_classes(path: Path, classes: ClassTable, progress: Progress | None = None) -> None:
    """Write a class table as CSV."""
    with written_whole(path) as stream:
        stream.write(class_rows(classes).to_csv().encode())


def read_classes(path: Path) -> ClassTable:
    """A class table from CSV with columns number and name.

    Raises
    ------
    Trouble
        When one of the two is not there, a number is none, or two classes have one number or one name.
    """
    table = read_csv(path)
    names = [OTHERS.get(c.name.strip().casefold(), c.name.strip().casefold()) for c in table.columns]
    if not {"number", "name"} <= set(names):
        raise Trouble("A class table has columns number and name", "name them so", path)
    values = dict(zip(names, table.values))
    rows = []
    for n in range(table.count):
        facts: dict[str, Any] = {name: values[name][n] for name in COLUMNS if name in values}
        try:
            number, parent = int(facts["number"]), int(facts.get("parent") or 0)
        except (TypeError, ValueError) as error:
            raise Trouble(f"Line {n + 2} of this class table has no number", "give each class one", path) from error
        colour = str(facts.get("colour") or PALETTE[n % len(PALETTE)])
        if not COLOUR.fullmatch(colour):
            raise Trouble(f"Line {n + 2}: “{colour[:40]}” is no colour", "write it as #RRGGBB", path)
        colour = f"#{colour.lstrip('#').upper()}"
        texts = [str(facts.get(name) or "") for name in ("name", "code", "note")]
        rows.append(ClassRow(number, plain_name(texts[0]), colour, parent, *texts[1:]))
    try:
        return ClassTable(rows, path.name.partition(".")[0])
    except Trouble as trouble:
        raise Trouble(trouble.what, trouble.do, path) from trouble


register(Format("CSV of classes", (".csv",), read_classes, write_classes, holds=("class table",), listed=False))
