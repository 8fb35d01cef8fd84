"""Renumber labels so that no number is left out."""

from __future__ import annotations

from dataclasses import replace
from typing import NamedTuple

import numpy as np

from ..core.image import Image
from ..core.labels import LARGEST, LabelMap, LabelTable
from ..core.operation import operation
from ..core.patch import LabelEdit, Patch, patch_from_mask
from ..core.table import Column, Table


class Renumbered(NamedTuple):
    """Labels without a gap in their numbers, and which number became which."""

    labels: LabelEdit
    numbers: Table


@operation("outline", "Renumber labels", name="renumber", keywords="gap unused numbers", group="Labels")
def renumber(image: Image, labels: LabelMap) -> Renumbered:
    """Give the labels the numbers 1, 2, 3 … in their present order. Names and colours stay.

    Renumbering changes no boundary, so it also reaches locked labels. Which number became which is told in the logbook.

    Returns
    -------
    labels : LabelEdit
    numbers : Table
        One row a label: its name, its number before and now.
    """
    rows = [replace(row, number=n) for n, row in enumerate(labels.table, 1)]
    change = np.arange(LARGEST + 1, dtype=np.uint16)
    for old, new in zip(labels.table, rows):
        change[old.number] = new.number
    moved = change != np.arange(LARGEST + 1)
    mask = moved[labels.kji].view(np.uint8)
    opened = LabelMap(labels.space, table=LabelTable(replace(r, locked=False) for r in labels.table))
    opened.kji, opened.counts = labels.kji, labels.counts
    runs = patch_from_mask(opened, mask, 0)
    old = runs.old if runs.old.size == runs.voxels else np.full(runs.voxels, runs.old[0], np.uint16)
    told = [f"{old.number} → {new.number}" for old, new in zip(labels.table, rows) if old.number != new.number]
    words = ", ".join(told[:12]) + (f" and {len(told) - 12} more" if len(told) > 12 else "") or "nothing changed"
    edit = LabelEdit(
        f"Renumber labels: {words}",
        Patch(runs.starts, runs.lengths, old, change[old]) if old.size else None,
        labels.table,
        LabelTable(rows),
    )
    columns = [Column("label"), Column("number_before", shown_as="number before"), Column("number")]
    numbers = [(old.name, old.number, new.number) for old, new in zip(labels.table, rows)]
    return Renumbered(edit, Table(f"Numbers of {labels.name}", columns, numbers))
