"""Which slices of a label were drawn: in one plane, or in two that cross."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ...core.halves import in_halves
from ...core.kernel import kernel
from ...core.space import Space

THIN = 5
"""Slices of the thinnest stretch, above which gaps between stretches were not left out by somebody who draws."""


@dataclass(frozen=True)
class Family:
    """Drawn slices of one plane: the grid's axis across it (0, 1, 2 for i, j, k), and their numbers."""

    axis: int
    slices: tuple[int, ...]

    @property
    def missing(self) -> int:
        """How many slices lie between them."""
        return self.slices[-1] - self.slices[0] + 1 - len(self.slices)

    @property
    def stretches(self) -> list[int]:
        """How many neighbours each stretch of them has, in order."""
        ends = np.flatnonzero(np.diff(self.slices) > 1)
        return np.diff([0, *(ends + 1), len(self.slices)]).tolist()


def family(mask: np.ndarray, axis: int, areas_alone: bool = False) -> Family | None:
    """The slices across an axis in which a region has an area; None when there is none.

    Where a slice of another plane crosses this one it leaves a line of one voxel's width, which is no area. A region
    that has none anywhere counts as it is, unless areas alone do.

    Parameters
    ----------
    mask : bool array [k, j, i]
    """
    return _of_axis(_slices(mask), axis, areas_alone)


def _of_axis(slices: np.ndarray, axis: int, areas_alone: bool) -> Family | None:
    used, wide = (np.flatnonzero(one) for one in slices[2 - axis].T)
    chosen = wide.tolist() or ([] if areas_alone else used.tolist())
    return Family(axis, tuple(chosen)) if chosen else None


def families(mask: np.ndarray, space: Space) -> list[Family]:
    """Planes in which a region was drawn slice by slice, that with most gaps first; none when nothing is left out
    between slices of any.

    A gap between thick stretches alone, as between two eyes, is none that anybody left out.
    """
    found: list[Family] = []
    rest, axes = mask, [n for n in range(3) if space.shape[n] > 1]
    for areas_alone in (True, False):
        while axes:
            slices = _slices(rest)
            there = [_of_axis(slices, axis, areas_alone or bool(found)) for axis in axes]
            gaps = [f for f in there if f is not None and f.missing and min(f.stretches) <= THIN]
            if not gaps:
                break
            best = max(gaps, key=lambda f: (len(f.stretches), f.missing))
            found.append(best)
            axes.remove(best.axis)
            rest = rest.copy()
            np.moveaxis(rest, 2 - best.axis, 0)[list(best.slices)] = False
            if not rest.any():
                break
        if found:
            break
    if found and rest.any():  # slices too small for an area were drawn as well
        axis = found[0].axis
        left = np.flatnonzero(np.moveaxis(rest, 2 - axis, 0).any((1, 2)))
        found[0] = Family(axis, tuple(sorted({*found[0].slices, *map(int, left)})))
    return found if any(one.missing for one in found) else []


def _slices(mask: np.ndarray) -> np.ndarray:
    """For every slice across k, j and i: whether a voxel of it is set, and whether four are that meet in a corner,
    bool [axis, slice, 2]."""
    found = np.zeros((2, 3, max(mask.shape), 2), np.bool_)
    given = np.ascontiguousarray(mask).view(np.uint8)
    half = mask.shape[0] // 2
    in_halves(mask.shape[0], lambda a, b: _look(given, found[int(a >= half > 0)], a, b), mask.size)
    return found[0] | found[1]


@kernel
def _look(mask, found, first, last):
    nk, nj, ni = mask.shape
    for k in range(first, last):
        for j in range(nj):
            some = np.uint8(0)
            for i in range(ni):
                some |= mask[k, j, i]
            if some == 0:
                continue
            found[0, k, 0] = found[1, j, 0] = True
            for i in range(ni):
                if mask[k, j, i] == 0:
                    continue
                found[2, i, 0] = True
                if found[0, k, 1] and found[1, j, 1] and found[2, i, 1]:
                    continue
                right = i + 1 < ni and mask[k, j, i + 1] != 0
                down = j + 1 < nj and mask[k, j + 1, i] != 0
                deep = k + 1 < nk and mask[k + 1, j, i] != 0
                if right and down and mask[k, j + 1, i + 1] != 0:
                    found[0, k, 1] = True
                if right and deep and mask[k + 1, j, i + 1] != 0:
                    found[1, j, 1] = True
                if down and deep and mask[k + 1, j + 1, i] != 0:
                    found[2, i, 1] = True
