"""Connected regions by runs: every row is cut into runs of voxels in range, and runs that touch are put together.

The volume is read from front to back twice, whatever shape the regions have, and nothing is visited out of order; then
only the runs, a few per row, have to be followed. After K. Wu, E. Otoo, K. Suzuki, Optimizing two-pass
connected-component labeling algorithms, Pattern Analysis and Applications 12, 2009, with runs for pixels and three
dimensions for two.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..core.errors import Cancelled
from ..core.kernel import kernel

BYTES_A_RUN = 12


@dataclass(frozen=True)
class Runs:
    """Runs of a volume, row after row (rows in the order of [k, j]).

    `rows` (int64, rows + 1) are the first run of each row; `first` and `last` (int32) a run's voxels along i, both
    included; `root` (int32) the first run of the connected region a run belongs to.
    """

    shape: tuple[int, int, int]
    rows: np.ndarray
    first: np.ndarray
    last: np.ndarray
    root: np.ndarray

    def at(self, kji: tuple[int, int, int]) -> int:
        """The run that holds a voxel, -1 when none does."""
        k, j, i = kji
        a, b = self.rows[k * self.shape[1] + j], self.rows[k * self.shape[1] + j + 1]
        n = a + int(np.searchsorted(self.first[a:b], i, "right")) - 1
        return int(n) if n >= a and self.last[n] >= i else -1

    def fill(self, root: int, mask: np.ndarray) -> tuple[int, np.ndarray]:
        """Set a mask [k, j, i] where a region lies; returns its voxels and its box (first and last k, j, i)."""
        box = np.array([*self.shape, -1, -1, -1], np.int64)
        return int(_fill(self.rows, self.first, self.last, self.root, root, mask, box)), box

    def regions(self) -> tuple[np.ndarray, np.ndarray]:
        """Roots of all regions and their sizes in voxels."""
        sizes = np.bincount(self.root, weights=self.last - self.first + 1.0, minlength=1).astype(np.int64)
        roots = np.flatnonzero(self.root == np.arange(self.root.size))
        return roots, sizes[roots]


def reaches(neighbours: int) -> tuple[int, int]:
    """How far past a run's ends voxels of rows that share a face, or an edge, with it still touch it; -1: never."""
    return {6: (0, -1), 18: (1, 0), 26: (1, 1)}[neighbours]


def find_runs(
    volume_kji: np.ndarray,
    low,
    high,
    neighbours: int,
    walls: np.ndarray | None = None,
    stop: np.ndarray | None = None,
    most: int | None = None,
) -> Runs | None:
    """Cut a volume into runs with values from `low` to `high` and join those that touch.

    Parameters
    ----------
    walls : uint8 array like the volume, optional
        Voxels that belong to no run.
    most : int, optional
        Give up and return None when there are more runs than this (noise): they would take too much memory.
    """
    stop = np.zeros(1, np.uint8) if stop is None else stop
    walled = walls is not None
    walls = walls if walled else np.zeros((1, 1, 1), np.uint8)
    rows = np.zeros(volume_kji.shape[0] * volume_kji.shape[1] + 1, np.int64)
    if not _count(volume_kji, low, high, walled, walls, rows, stop):
        raise Cancelled
    if rows[-1] > (most if most is not None else np.iinfo(np.int32).max):
        return None
    first, last, root = (np.empty(rows[-1], np.int32) for _ in range(3))  # filled by a second look at the volume
    if not _join(volume_kji, low, high, walled, walls, *reaches(neighbours), rows, first, last, root, stop):
        raise Cancelled
    return Runs(volume_kji.shape, rows, first, last, root)


@kernel
def _count(volume, low, high, walled, walls, rows, stop):
    nk, nj, ni = volume.shape
    total = 0
    for k in range(nk):
        if stop[0]:
            return False
        for j in range(nj):
            before = False
            for i in range(ni):
                inside = low <= volume[k, j, i] <= high
                if walled:
                    inside = inside and not walls[k, j, i]
                total += inside and not before
                before = inside
            rows[k * nj + j + 1] = total
    return True


@kernel
def _find(root, n):
    while root[n] != n:
        root[n] = root[root[n]]
        n = root[n]
    return n


@kernel
def _meet(rows, first, last, root, here, there, reach):
    """Join the runs of two rows that touch, `reach` voxels past their ends included."""
    n, end, m, other = rows[here], rows[here + 1], rows[there], rows[there + 1]
    while n < end and m < other:
        if last[m] + reach < first[n]:
            m += 1
        elif last[n] + reach < first[m]:
            n += 1
        else:
            a, b = _find(root, n), _find(root, m)
            if a < b:
                root[b] = a
            elif b < a:
                root[a] = b
            if last[n] < last[m]:
                n += 1
            else:
                m += 1


@kernel
def _join(volume, low, high, walled, walls, face, edge, rows, first, last, root, stop):
    """A hand may be drawing on the volume: runs that have come since they were counted have no room and are left out,
    and those that have gone are empty."""
    nk, nj, ni = volume.shape
    for k in range(nk):
        if stop[0]:
            return False
        for j in range(nj):
            row = k * nj + j
            n = rows[row]
            end = rows[row + 1]
            if end == n:
                continue
            for m in range(n, end):
                first[m], last[m], root[m] = ni, -1, m
            before = False
            for i in range(ni):
                inside = low <= volume[k, j, i] <= high
                if walled:
                    inside = inside and not walls[k, j, i]
                if inside and not before:
                    if n == end:
                        inside = False
                        break
                    first[n] = i
                elif before and not inside:
                    last[n] = i - 1
                    n += 1
                before = inside
            if before:
                last[n] = ni - 1
            if j > 0:
                _meet(rows, first, last, root, row, row - 1, face)
            if k > 0:
                _meet(rows, first, last, root, row, row - nj, face)
                if edge >= 0:
                    if j > 0:
                        _meet(rows, first, last, root, row, row - nj - 1, edge)
                    if j < nj - 1:
                        _meet(rows, first, last, root, row, row - nj + 1, edge)
    for n in range(root.size):
        root[n] = root[root[n]]
    return True


@kernel
def _fill(rows, first, last, root, wanted, mask, box):
    nj = mask.shape[1]
    voxels = 0
    for row in range(rows.size - 1):
        for n in range(rows[row], rows[row + 1]):
            if root[n] != wanted:
                continue
            k, j, a, b = row // nj, row % nj, first[n], last[n]
            for i in range(a, b + 1):
                mask[k, j, i] = 1
            voxels += b - a + 1
            box[0], box[3] = min(box[0], k), max(box[3], k)
            box[1], box[4] = min(box[1], j), max(box[4], j)
            box[2], box[5] = min(box[2], a), max(box[5], b)
    return voxels
