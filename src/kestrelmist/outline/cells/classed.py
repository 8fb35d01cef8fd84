"""Cells as labels of their classes: each cell wholly of one."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...core.labels import PALETTE, Label, LabelMap, LabelTable
from ...core.progress import Progress


def classed(labels: LabelMap, class_of: np.ndarray, names: Sequence[str], progress: Progress) -> LabelMap:
    """A label map with a label a class.

    Parameters
    ----------
    class_of : uint16 array
        By the number of a cell the number of its class, from 1; 0 for none.
    names : list of str
        Of the classes, the first one's first.
    """
    table_of = LabelTable(Label(n, name, PALETTE[(n - 1) % len(PALETTE)]) for n, name in enumerate(names, 1))
    made = LabelMap(labels.space, table=table_of, name=f"{labels.name}, classed", subject=labels.subject)
    for k in progress.over(range(labels.kji.shape[0]), what="Writing classes"):
        rows = max(1, (1 << 24) // labels.kji.shape[2])
        for j in range(0, labels.kji.shape[1], rows):
            under = labels.kji[k, j : j + rows]
            if under.any():
                made.kji[k, j : j + rows] = class_of[under]
    made.recount()
    return made
