"""A label whose voxels an operation finds anew each time: what it leaves is taken from it, other labels keep theirs."""

from __future__ import annotations

import numpy as np

from ...core.labels import Label, LabelMap, LabelTable
from ...core.patch import LabelEdit, whole_difference


def found_anew(labels: LabelMap, table: LabelTable, row: Label, mask: np.ndarray, title: str) -> LabelEdit:
    """The edit after which a label has the voxels of a mask [k, j, i], but for those that carry another label."""
    work = labels.copied()
    work.kji[mask & (labels.kji == 0)] = row.number
    work.kji[~mask & (labels.kji == row.number)] = 0
    changed = (work.kji != labels.kji).view(np.uint8)
    return LabelEdit(f"{title} “{row.name}”", whole_difference(labels, work, changed), labels.table, table)
