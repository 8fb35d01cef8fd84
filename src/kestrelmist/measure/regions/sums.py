"""What one look at every voxel tells of all labels: counts, sums of places, crossings of the border, values in a row.

The border is crossed along thirteen directions (four on a picture); how often tells how long it is (see `surface`).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ...core.halves import in_halves
from ...core.kernel import kernel
from ...core.labels import LARGEST

WAYS = np.array(
    [(0, 0, 1), (0, 1, 0), (1, 0, 0), (0, 1, 1), (0, 1, -1), (1, 0, 1), (1, 0, -1), (1, 1, 0), (1, -1, 0)]
    + [(1, 1, 1), (1, 1, -1), (1, -1, 1), (1, -1, -1)],
    np.int64,
)
"""The thirteen directions to neighbours, as steps along k, j and i."""
FURTHEST = 12
"""Voxels along an axis that a step is at most."""
PLACES, SQUARES = slice(1, 4), slice(4, 10)
SUMS = 11
"""Of each label: voxels; sums of k, j, i; of kk, jj, ii, kj, ki, ji, each from the corner of its box; voxels with a
neighbour outside."""


@dataclass(frozen=True)
class RegionSums:
    """Of each label in a row: `sums` (n, SUMS), `boxes` (n, 3, 2) first and last + 1 along k, j, i, `crossings`
    (n, 13) how often its border is crossed outwards and inwards along each of `ways`."""

    numbers: np.ndarray
    ways: np.ndarray
    sums: np.ndarray
    boxes: np.ndarray
    crossings: np.ndarray

    @property
    def counts(self) -> np.ndarray:
        """Voxels of each."""
        return self.sums[:, 0].astype(np.int64)

    def slots(self) -> np.ndarray:
        """For each number a label may have, its place in the row; −1 for others."""
        return slots_of(self.numbers)


def slots_of(numbers: np.ndarray) -> np.ndarray:
    """For each number a label may have, its place among some; −1 for others."""
    place = np.full(LARGEST + 1, -1, np.int32)
    place[numbers] = np.arange(len(numbers))
    return place


def ways_in(steps: np.ndarray) -> np.ndarray:
    """The thirteen ways, for voxels that are not as long as wide: those across go several short sides at once, so that
    they point evenly into all directions."""
    lengths = np.linalg.norm(steps, axis=1)
    times = np.clip(np.rint(lengths.max() / lengths), 1, FURTHEST).astype(np.int64)
    return np.where((np.abs(WAYS).sum(1) > 1)[:, None], WAYS * times, WAYS)


def region_sums(labels: np.ndarray, numbers: np.ndarray, steps: np.ndarray | None = None) -> RegionSums:
    """Look at every voxel once.

    Parameters
    ----------
    labels : array [k, j, i] of label numbers
    numbers : array (n,)
        Those that are wanted.
    steps : array (3, 3), optional
        World vectors from voxel to voxel along k, j and i, a row each; alike when left out.
    """
    place, count = slots_of(numbers), len(numbers)
    ways = WAYS if steps is None or 1 in labels.shape else ways_in(steps)
    shape = np.array(labels.shape)
    halves: list[tuple] = []

    def look(first: int, last: int) -> None:
        sums, crossings = np.zeros((count, SUMS)), np.zeros((count, len(WAYS)), np.int64)
        boxes = np.empty((count, 3, 2), np.int64)
        boxes[..., 0], boxes[..., 1] = shape, 0
        _look(labels, place, first, last, sums, boxes, crossings, ways)
        halves.append((sums, boxes, crossings))

    in_halves(labels.shape[0], look, labels.size)
    if labels.shape[0] == 1 and not halves:
        look(0, 1)
    sums, crossings = sum(h[0] for h in halves), sum(h[2] for h in halves)
    boxes = np.stack((np.min([h[1][..., 0] for h in halves], 0), np.max([h[1][..., 1] for h in halves], 0)), -1)
    return RegionSums(np.asarray(numbers), ways, np.asarray(sums), boxes, np.asarray(crossings))


@kernel
def _look(labels, place, first, last, sums, boxes, crossings, ways):
    """Voxels of one label that follow one another along i are looked at together."""
    nk, nj, ni = labels.shape
    for k in range(first, last):
        for j in range(nj):
            i = 0
            while i < ni:
                number = labels[k, j, i]
                start = i
                i += 1
                while i < ni and labels[k, j, i] == number:
                    i += 1
                row = place[number]
                if row < 0:
                    continue
                n, high = i - start, i - 1
                along = n * (start + high) // 2
                one = sums[row]
                one[0] += n
                one[1] += n * k
                one[2] += n * j
                one[3] += along
                one[4] += n * k * k
                one[5] += n * j * j
                one[6] += (high * (high + 1) * (2 * high + 1) - (start - 1) * start * (2 * start - 1)) // 6
                one[7] += n * k * j
                one[8] += along * k
                one[9] += along * j
                box = boxes[row]
                box[0, 0] = min(box[0, 0], k)
                box[0, 1] = max(box[0, 1], k + 1)
                box[1, 0] = min(box[1, 0], j)
                box[1, 1] = max(box[1, 1], j + 1)
                box[2, 0] = min(box[2, 0], start)
                box[2, 1] = max(box[2, 1], i)
                _cross(labels, number, k, j, start, i, crossings[row], ways)
                one[10] += _on_border(labels, number, k, j, start, i)


@kernel
def _cross(labels, number, k, j, start, end, crossings, ways):
    """How often the border is crossed from voxels in a row, along each way and against it."""
    nk, nj, ni = labels.shape
    for n in range(ways.shape[0]):
        if nk == 1 and ways[n, 0] != 0:
            continue
        for side in (1, -1):
            a, b, step = k + side * ways[n, 0], j + side * ways[n, 1], side * ways[n, 2]
            if not (0 <= a < nk and 0 <= b < nj):
                crossings[n] += end - start
                continue
            if ways[n, 0] == 0 and ways[n, 1] == 0:
                crossings[n] += 1  # a row of one label ends where another begins
                continue
            low, high = max(start + step, 0), min(end + step, ni)
            out = (end - start) - max(0, high - low)
            for i in range(low, high):
                out += labels[a, b, i] != number
            crossings[n] += out


@kernel
def _on_border(labels, number, k, j, start, end):
    """How many voxels in a row have a neighbour of another label, or none where the grid goes on for more than one."""
    nk, nj, ni = labels.shape
    if (nk > 1 and (k == 0 or k == nk - 1)) or (nj > 1 and (j == 0 or j == nj - 1)):
        return end - start
    count = 0
    for i in range(start, end):
        edge = ni > 1 and (i == start or i == end - 1)
        if nj > 1:
            edge |= (labels[k, j - 1, i] != number) | (labels[k, j + 1, i] != number)
        if nk > 1:
            edge |= (labels[k - 1, j, i] != number) | (labels[k + 1, j, i] != number)
        count += edge
    return count


def values_of(values: np.ndarray, labels: np.ndarray, numbers: np.ndarray, counts: np.ndarray):
    """The finite values of each label, one after another.

    Returns
    -------
    row : array
        All values, those of the first label first.
    ends : array (n + 1,)
        Where those of each label begin, and end; they are fewer than its voxels where some have no value.
    """
    starts = np.concatenate(([0], np.cumsum(counts)))
    row = np.empty(int(starts[-1]), values.dtype)
    filled = starts[:-1].copy()
    _gather(values, labels, slots_of(numbers), row, filled, starts[1:])
    return row, starts[:-1], filled


@kernel
def _gather(values, labels, place, row, filled, ends):
    nk, nj, ni = labels.shape
    for k in range(nk):
        for j in range(nj):
            for i in range(ni):
                n = place[labels[k, j, i]]
                if n >= 0:
                    value = values[k, j, i]
                    # labels are drawn on meanwhile: what has come since has no room
                    if np.isfinite(value) and filled[n] < ends[n]:
                        row[filled[n]] = value
                        filled[n] += 1
