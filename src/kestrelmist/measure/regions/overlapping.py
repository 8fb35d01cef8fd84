"""How much of each label lies in the labels of another map."""

from __future__ import annotations

import numpy as np

from ...core.kernel import kernel
from ...core.labels import LabelMap
from ...core.on_grid import require_same_grid
from .sums import RegionSums, slots_of


def overlaps(found: RegionSums, labels: LabelMap, other: LabelMap) -> tuple[np.ndarray, list[str]]:
    """The share of each label that lies in any label of another map, and the name of the one it lies in most; raises
    Trouble when the other map lies on another grid."""
    require_same_grid(other, labels)
    rows = list(other.table)
    counts = np.zeros((len(found.numbers), len(rows)), np.int64)
    if rows:
        _meet(labels.kji, other.kji, slots_of(found.numbers), slots_of(np.array([r.number for r in rows])), counts)
    with np.errstate(invalid="ignore", divide="ignore"):
        shares = np.where(found.counts > 0, counts.sum(1) / found.counts, 0.0)
    names = [rows[int(one.argmax())].name if one.any() else "" for one in counts]
    return shares, names


@kernel
def _meet(labels, other, place, other_place, counts):
    nk, nj, ni = labels.shape
    for k in range(nk):
        for j in range(nj):
            for i in range(ni):
                row, column = place[labels[k, j, i]], other_place[other[k, j, i]]
                if row >= 0 and column >= 0:
                    counts[row, column] += 1
