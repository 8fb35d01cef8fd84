"""Where each label of a map lies: the box that holds all of its voxels."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from .kernel import kernel, unmarked
from .labels import LARGEST

Box = tuple[slice, slice, slice]
"""Slices along k, j, i."""


def boxes_of(kji: np.ndarray) -> dict[int, Box]:
    """The box of each number but 0 that an array of numbers has, in one pass.

    Parameters
    ----------
    kji : uint16 array [k, j, i]
    """
    ends = np.empty((LARGEST + 1, 6), np.int64)
    ends[:, :3], ends[:, 3:] = np.iinfo(np.int64).max, -1
    _find(unmarked(np.ascontiguousarray(kji)), ends)
    return {
        int(n): tuple(slice(int(a), int(b) + 1) for a, b in zip(ends[n, :3], ends[n, 3:]))  # type: ignore[misc]
        for n in np.flatnonzero(ends[1:, 3] >= 0) + 1
    }


def wider(box: Box, by: tuple[int, int, int], shape: tuple[int, ...]) -> Box:
    """A box with so many voxels more on each side along k, j, i, as far as the grid goes."""
    k, j, i = (slice(max(0, s.start - n), min(size, s.stop + n)) for s, n, size in zip(box, by, shape))
    return k, j, i


def round_all(boxes: Sequence[Box]) -> Box:
    """The smallest box that holds several; there is one at least."""
    k, j, i = (slice(min(s.start for s in along), max(s.stop for s in along)) for along in zip(*boxes))
    return k, j, i


def seen_from(box: Box, outer: Box) -> Box:
    """Where a box lies in an array that holds a box round it."""
    k, j, i = (slice(s.start - o.start, s.stop - o.start) for s, o in zip(box, outer))
    return k, j, i


@kernel
def _find(numbers, ends):
    nk, nj, ni = numbers.shape
    for k in range(nk):
        for j in range(nj):
            before = 0
            for i in range(ni):
                number = numbers[k, j, i]
                if number == 0:
                    before = 0
                    continue
                if number != before:
                    ends[number, 0] = min(ends[number, 0], k)
                    ends[number, 3] = max(ends[number, 3], k)
                    ends[number, 1] = min(ends[number, 1], j)
                    ends[number, 4] = max(ends[number, 4], j)
                    ends[number, 2] = min(ends[number, 2], i)
                    before = number
                if i > ends[number, 5]:
                    ends[number, 5] = i
