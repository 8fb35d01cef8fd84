"""Classes that a table gives cells become labels."""

from __future__ import annotations

from typing import Annotated

import numpy as np

from ...core.errors import Trouble
from ...core.image import Image
from ...core.labels import LARGEST, LabelMap
from ...core.on_grid import require_same_grid
from ...core.operation import operation
from ...core.parameter import Role
from ...core.progress import Progress, silent
from ...core.table import Table
from .classed import classed

NUMBERS = ("number", "cell")
"""Columns that hold the numbers of labels."""
MOST = 1_000
"""Classes that a column may tell."""


@operation(
    "outline",
    "Classes of a table to labels",
    name="class-by-table",
    keywords="gate cytometry phenotype class colour cells by table population map back backgating",
    called={"table": "Table", "column": "Classes in column"},
    rare="column",
    group="Cells",
    methods="Cells were classed by gates on measured columns",
)
def class_by_table(
    image: Annotated[Image, Role("grid")],
    labels: LabelMap,
    table: Table,
    column: str = "class",
    *,
    progress: Progress = silent(),
) -> LabelMap:
    """Make a label map of classes: each cell becomes the label of the class that a table gives it.

    Parameters
    ----------
    image : image
        The one that the labels are of.
    labels : label map
        A number each cell.
    table : table
        With the numbers of cells in a column number or cell, as measure-cells gives it, and their classes.
    column : text
        Where classes are.

    Raises
    ------
    Trouble
        When the table lacks one of the columns, names cells that are not there, or gives no class.
    """
    require_same_grid(image, labels)
    places = {c.name: n for n, c in enumerate(table.columns)}
    named = next((name for name in NUMBERS if name in places), None)
    if named is None:
        raise Trouble(f"“{table.title}” has no column with numbers of cells", "use one that measure-cells has made")
    if column not in places:
        raise Trouble(f"“{table.title}” has no column “{column[:40]}”", "gate it first, or name another column")
    classes = ["" if v is None else str(v) for v in list(table.values[places[column]])]
    names = sorted(set(classes) - {""}, key=str.casefold)
    if not names:
        raise Trouble(f"Column “{column}” gives no cell a class", "gate the table first")
    if len(names) > MOST:
        raise Trouble(f"Column “{column}” has {len(names)} different words", "choose the column of classes")
    class_of = np.zeros(LARGEST + 1, np.uint16)
    known = {name: n for n, name in enumerate(names, 1)}
    missing = []
    for number, name in zip(list(table.values[places[named]]), classes):
        if number is None or not 0 < int(number) <= LARGEST or not labels.counts[int(number)]:
            missing.append(number)
        elif name:
            class_of[int(number)] = known[name]
    if missing:
        several = "s" if len(missing) > 1 else ""
        what = f"“{labels.name}” has no {len(missing)} of the cells of the table, as number{several} {missing[0]}"
        raise Trouble(what, "use the label map that was measured")
    return classed(labels, class_of, names, progress)
