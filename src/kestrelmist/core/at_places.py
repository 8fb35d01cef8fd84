"""Values of a volume at places of its own, each where a mapping leads a voxel of another grid: places are found once,
and looked up for every volume of a series."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from .cell import cell, within
from .halves import in_halves
from .kernel import kernel
from .mapping import Mapping
from .progress import Progress, silent
from .space import Space
from .spline import spline_coefficients, spline_weights

MOST = 1 << 29
"""Bytes of places that are kept for the next volume."""
SLAB = 1 << 18
"""Places that are worked out at a time."""


class Looked:
    """A volume made ready to be looked at anywhere.

    Parameters
    ----------
    values : array [k, j, i]
        What lies nearer to a missing value (NaN, infinite) than to any other has none.
    how : text
        "nearest", "linear", or "cubic" B-spline.
    outside : number
        What stands where there is no value.
    """

    def __init__(self, values: np.ndarray, how: str, outside: float = np.nan):
        self.how, self.outside = how, outside
        self.kind = np.dtype(np.float32)
        if how == "nearest":
            self.kind = values.dtype if np.isfinite(outside) or values.dtype.kind == "f" else self.kind
            self.values, self.marks = np.ascontiguousarray(values), None
            return
        there = np.isfinite(values)
        whole = bool(there.all())
        self.values = np.ascontiguousarray(values if whole else np.where(there, values, 0), np.float32)
        if how == "cubic":
            self.values = spline_coefficients(self.values)
        self.marks = None if whole else there.astype(np.uint8)

    def __call__(self, at: np.ndarray) -> np.ndarray:
        """Values at voxel coordinates i, j, k, float32 (…, 3), NaN where there is none; float32 (…), of "nearest" the
        number type of the volume."""
        flat = at.reshape(-1, 3)
        found = np.full(len(flat), self.outside, self.kind)
        if self.how == "nearest":
            in_halves(len(flat), lambda a, b: _nearest(self.values, flat, found, a, b))
        else:
            marks = np.ones((1, 1, 1), np.uint8) if self.marks is None else self.marks
            look, marked = _cubic if self.how == "cubic" else _linear, self.marks is not None
            in_halves(len(flat), lambda a, b: look(self.values, flat, marks, marked, found, a, b))
        return found.reshape(at.shape[:-1])


def places_of(source: Space, target: Space, way: Mapping, first: int, last: int) -> np.ndarray:
    """Where the voxels of some slices of `target` are found in a volume of `source`: voxel coordinates i, j, k, float32
    (k, j, i, 3), NaN where the way says nothing. `way` leads from the world of the first to that of the other."""
    ni, nj, _ = target.shape
    k, j, i = np.meshgrid(np.arange(first, last), np.arange(nj), np.arange(ni), indexing="ij")
    voxels = np.stack([i.ravel(), j.ravel(), k.ravel()], axis=1)
    return source.to_voxel(way.to(target.to_world(voxels))).astype(np.float32).reshape(last - first, nj, ni, 3)


class Places:
    """Where the voxels of a grid are found in the volumes of a series: worked out once, when the first one is looked
    at; of a grid too large to keep that, for every volume."""

    def __init__(self, source: Space, target: Space, way: Mapping):
        self.source, self.target, self.way = source, target, way.prepared()
        self._kept: list[np.ndarray] = []

    def slabs(self, progress: Progress) -> Iterator[np.ndarray]:
        """Places of some slices after the others; raises Cancelled."""
        if self._kept:
            yield from self._kept
            return
        count = self.target.shape[2]
        a_slice = max(1, self.target.shape[0] * self.target.shape[1])
        step = max(1, min(count, SLAB // a_slice))
        found = []
        for first in progress.over(range(0, count, step), what="Following the transforms"):
            at = places_of(self.source, self.target, self.way, first, min(first + step, count))
            if 12 * a_slice * count <= MOST:
                found.append(at)
            yield at
        self._kept = found

    def look(
        self,
        values: np.ndarray,
        how: str,
        outside: float = np.nan,
        progress: Progress | None = None,
        moved: np.ndarray | None = None,
    ) -> np.ndarray:
        """A volume at the voxels of the grid, [k, j, i]; see `Looked`. `moved`, (4, 4), leads on from a place in the
        world of the volume to where that is found in this one."""
        looked = Looked(values, how, outside)
        slabs = self.slabs(progress or silent())
        if moved is not None:
            on = (self.source.inverse @ moved @ self.source.affine).astype(np.float32)
            slabs = (at @ on[:3, :3].T + on[:3, 3] for at in slabs)
        return np.concatenate([looked(at) for at in slabs])


@kernel
def _nearest(values, at, out, first, last):
    nk, nj, ni = values.shape
    for n in range(first, last):
        x, y, z = at[n, 0], at[n, 1], at[n, 2]
        if within(x, y, z, ni, nj, nk):
            a, b, c = min(max(x, 0.0), ni - 1.0), min(max(y, 0.0), nj - 1.0), min(max(z, 0.0), nk - 1.0)
            out[n] = values[int(c + 0.5), int(b + 0.5), int(a + 0.5)]


@kernel(inline="always")
def _is_there(marks, x, y, z):
    """Whether the voxel nearest to a place has a value."""
    nk, nj, ni = marks.shape
    a, b, c = min(max(x, 0.0), ni - 1.0), min(max(y, 0.0), nj - 1.0), min(max(z, 0.0), nk - 1.0)
    return marks[int(c + 0.5), int(b + 0.5), int(a + 0.5)] > 0


@kernel
def _linear(values, at, marks, marked, out, first, last):
    nk, nj, ni = values.shape
    for n in range(first, last):
        x, y, z = at[n, 0], at[n, 1], at[n, 2]
        if not within(x, y, z, ni, nj, nk) or (marked and not _is_there(marks, x, y, z)):
            continue
        (a, d, u), (b, e, v), (c, f, w) = cell(x, ni), cell(y, nj), cell(z, nk)
        x00 = values[c, b, a] + u * (values[c, b, d] - values[c, b, a])
        x01 = values[c, e, a] + u * (values[c, e, d] - values[c, e, a])
        x10 = values[f, b, a] + u * (values[f, b, d] - values[f, b, a])
        x11 = values[f, e, a] + u * (values[f, e, d] - values[f, e, a])
        y0, y1 = x00 + v * (x01 - x00), x10 + v * (x11 - x10)
        out[n] = y0 + w * (y1 - y0)


@kernel(inline="always")
def _mirrored(n, size):
    """An index within the row that it was mirrored at the ends of."""
    if size == 1:
        return 0
    n = -n if n < 0 else n
    return 2 * (size - 1) - n if n > size - 1 else n


@kernel
def _cubic(values, at, marks, marked, out, first, last):
    nk, nj, ni = values.shape
    for n in range(first, last):
        x, y, z = at[n, 0], at[n, 1], at[n, 2]
        if not within(x, y, z, ni, nj, nk) or (marked and not _is_there(marks, x, y, z)):
            continue
        x, y, z = min(max(x, 0.0), ni - 1.0), min(max(y, 0.0), nj - 1.0), min(max(z, 0.0), nk - 1.0)
        a, b, c = int(x), int(y), int(z)
        u0, u1, u2, u3 = spline_weights(np.float32(x - a))
        v0, v1, v2, v3 = spline_weights(np.float32(y - b))
        w0, w1, w2, w3 = spline_weights(np.float32(z - c))
        a0, a1, a2, a3 = _mirrored(a - 1, ni), a, _mirrored(a + 1, ni), _mirrored(a + 2, ni)
        total = np.float32(0.0)
        for r in range(4):
            wr = w0 if r == 0 else w1 if r == 1 else w2 if r == 2 else w3
            kk = _mirrored(c - 1 + r, nk)
            for q in range(4):
                vq = v0 if q == 0 else v1 if q == 1 else v2 if q == 2 else v3
                jj = _mirrored(b - 1 + q, nj)
                row = values[kk, jj]
                total += wr * vq * (u0 * row[a0] + u1 * row[a1] + u2 * row[a2] + u3 * row[a3])
        out[n] = total
