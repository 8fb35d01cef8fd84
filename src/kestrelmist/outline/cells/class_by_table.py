"""Classes that a table gives cells become labels."""

from __future__ import annotations

from typing import Annotated

import numpy as np

from ...core.errors import Trouble
from ...core.gate import figures_of
from ...core.image import Image
from ...core.labels import LARGEST, LabelMap
from ...core.on_grid import require_same_grid
from ...core.operation import operation
from ...core.parameter import Role
from ...core.progress import Progress, silent
from ...core.quantity import nanometres
from ...core.table import Table
from .classed import classed

NUMBERS = ("number", "cell")
"""Columns that hold the numbers of labels."""
ALIKE = 1e-3
"""Share of its size by which a cell may differ from what a table tells: files may have rounded it."""
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
        When the table lacks one of the columns, names cells that are not there or have another size, or gives no class.
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
    _require_same_sizes(table, labels, named)
    return classed(labels, class_of, names, progress)


def _require_same_sizes(table: Table, labels: LabelMap, named: str) -> None:
    """Raises Trouble when a table tells of other sizes than cells of the same numbers have: it is of another map, of
    the next subject say, or of this one as it was before."""
    what, cell, unit = labels.space.extent
    at = {c.name: n for n, c in enumerate(table.columns)}
    if what not in at:
        return
    own, said = nanometres(unit.rstrip("23")), nanometres(table.columns[at[what]].unit.rstrip("23"))
    if (own is None) != (said is None):
        raise Trouble(f"“{table.title}” was measured with another scale than “{labels.name}” has", "measure it anew")
    factor = 1.0 if own is None or said is None else (own / said) ** (2 if what == "area" else 3)
    numbers = figures_of(table, named).astype(int)
    sizes, told = labels.counts[numbers] * cell * factor, figures_of(table, what)
    other = np.flatnonzero(np.abs(sizes - told) > ALIKE * sizes)
    if other.size:
        first = int(numbers[other[0]])
        what = f"{other.size} of the cells of the table have another size in “{labels.name}”, as number {first}"
        raise Trouble(what, "use the label map that was measured, or measure it anew")
