"""A change to a label map, kept as runs of voxels with their old and new numbers.

A stroke or a grown region touches voxels that lie in runs along i; start and length of each run plus the old
numbers say all that is needed to do the change, undo it, and write it to the journal. A skull of two
million voxels takes well under a megabyte once compressed.
"""

from __future__ import annotations

import struct
import zlib
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from .halves import in_halves
from .kernel import kernel
from .labels import LARGEST, LabelMap, LabelTable

SHARED = 1 << 20
"""Voxels of a change from which two cores write it."""


@dataclass(frozen=True)
class Patch:
    """Voxels of a label map and their numbers before and after.

    `starts` (int64) and `lengths` (int32) are runs in the flat order of LabelMap.flat. `old` and `new` are
    uint16 arrays, either one number for all voxels (size 1) or one a voxel in run order.
    """

    starts: np.ndarray
    lengths: np.ndarray
    old: np.ndarray
    new: np.ndarray

    @cached_property
    def voxels(self) -> int:
        """How many voxels it touches."""
        return int(self.lengths.sum())

    def require_fit(self, voxels: int) -> None:
        """Raises ValueError when the runs do not lie, in order, within a map of so many voxels, or numbers are
        missing: a damaged one must not be written anywhere."""
        ends = self.starts + self.lengths
        count = self.voxels
        sound = self.starts.size == self.lengths.size and all(n.size in (1, count) for n in (self.old, self.new))
        if sound and self.starts.size:
            within = self.starts[0] >= 0 and ends[-1] <= voxels and self.lengths.min() > 0
            sound = bool(within and np.all(self.starts[1:] >= ends[:-1]))
        if not sound:
            raise ValueError("a change in the journal does not fit its label map")

    def fits_before(self, labels: LabelMap) -> bool:
        """Whether the map holds, where the patch is, the numbers it is to be taken from."""
        index = np.repeat(self.starts - np.cumsum(self.lengths) + self.lengths, self.lengths) + np.arange(self.voxels)
        return bool(np.all(labels.flat[index] == self.old))

    def reversed(self) -> Patch:
        """The patch that takes it back."""
        turned = replace(self, old=self.new, new=self.old)
        turned.__dict__["voxels"] = self.voxels  # counted once: of millions of runs that is felt
        return turned

    def apply(self, labels: LabelMap) -> None:
        """Write the new numbers into the map and keep its counts right."""
        self._write(labels.flat)
        for values, sign in ((self.old, -1), (self.new, 1)):
            if values.size == 1:
                labels.counts[values[0]] += sign * self.voxels
            else:
                found = np.bincount(values)
                labels.counts[: found.size] += sign * found
            labels.revision[np.unique(values)] += 1

    def _write(self, flat: np.ndarray) -> None:
        """All runs; of many voxels in two halves, as the window waits for it."""
        half = self.starts.size // 2
        if self.voxels < SHARED or half == 0:
            _write_runs(flat, self.starts, self.lengths, self.new)
            return
        at = int(self.lengths[:half].sum()) if self.new.size > 1 else 0
        parts = (slice(None, half), self.new[:at] if at else self.new), (slice(half, None), self.new[at:])
        with ThreadPoolExecutor(2) as pool:
            list(pool.map(lambda part: _write_runs(flat, self.starts[part[0]], self.lengths[part[0]], part[1]), parts))

    def box(self, shape: tuple[int, int, int]) -> tuple[slice, slice, slice] | None:
        """The [i, j, k] slices that hold every touched voxel of a grid of `shape`, None when none is."""
        if self.starts.size == 0:
            return None
        ni, nj, _ = shape
        first, last = self.starts % ni, self.starts % ni + self.lengths - 1
        row = self.starts // ni
        return (
            slice(int(first.min()), int(last.max()) + 1),
            slice(int((row % nj).min()), int((row % nj).max()) + 1),
            slice(int(row[0] // nj), int(row[-1] // nj) + 1),
        )

    def to_bytes(self) -> bytes:
        """The form the journal keeps; made once, so that a worker can make it before the window needs it."""
        return self._packed

    @cached_property
    def _packed(self) -> bytes:
        parts = [
            zlib.compress(np.diff(self.starts, prepend=0).astype("<i8").tobytes(), 1),
            zlib.compress(self.lengths.astype("<i4").tobytes(), 1),
            zlib.compress(self.old.astype("<u2").tobytes(), 1),
            zlib.compress(self.new.astype("<u2").tobytes(), 1),
        ]
        return struct.pack("<4I", *map(len, parts)) + b"".join(parts)

    @classmethod
    def from_bytes(cls, blob: bytes) -> Patch:
        """Read back from `to_bytes`."""
        sizes, at, arrays = struct.unpack_from("<4I", blob), 16, []
        for size, kind in zip(sizes, ("<i8", "<i4", "<u2", "<u2")):
            arrays.append(np.frombuffer(zlib.decompress(blob[at : at + size]), kind).copy())
            at += size
        return cls(np.cumsum(arrays[0]), *arrays[1:])


def patch_from_indices(index: np.ndarray, old: np.ndarray, new: int) -> Patch:
    """Patch for voxels given one by one (flat indices, any order, each once)."""
    order = np.argsort(index, kind="stable")
    index, old = np.asarray(index, np.int64)[order], np.asarray(old, np.uint16)[order]
    breaks = np.flatnonzero(np.diff(index) != 1) + 1
    first = np.concatenate(([0], breaks)).astype(np.int64) if index.size else np.zeros(0, np.int64)
    lengths = np.diff(np.concatenate((first, [index.size]))).astype(np.int32) if index.size else np.zeros(0, np.int32)
    return Patch(index[first], lengths, _shortest(old), np.array([new], np.uint16))


def patch_from_runs(starts: np.ndarray, lengths: np.ndarray, old: np.ndarray, new: int) -> Patch:
    """Patch from runs in any order that share no voxel; `old` has one number a voxel in their order. Runs that touch
    become one."""
    order = np.argsort(starts, kind="stable")
    before = _shortest(old)
    if before.size > 1:
        firsts, sizes = np.cumsum(lengths, dtype=np.int64) - lengths, lengths[order].astype(np.int64)
        places = np.cumsum(sizes) - sizes
        before = old[np.repeat(firsts[order] - places, sizes) + np.arange(old.size)]
    starts, lengths = starts[order], lengths[order]
    first = np.flatnonzero(np.concatenate(([True], starts[1:] != starts[:-1] + lengths[:-1])))
    return Patch(starts[first], np.add.reduceat(lengths, first, dtype=np.int32), before, np.array([new], np.uint16))


def patch_from_mask(
    labels: LabelMap, mask_kji: np.ndarray, new: int, corner: tuple[int, int, int] = (0, 0, 0), only: int | None = None
) -> Patch:
    """Patch that writes `new` where a mask is set, leaving locked labels alone.

    Parameters
    ----------
    mask_kji : uint8 array [k, j, i]
        May cover only a part of the map, placed at `corner` (k, j, i).
    only : int, optional
        Change only voxels that carry this number now.
    """
    allowed = labels.writable()
    if only is not None:
        allowed[:only] = allowed[only + 1 :] = 0
    allowed[new] = 0  # a voxel that carries the number already is no change
    starts, lengths, old, _ = _runs(labels, mask_kji, corner, allowed)
    return Patch(starts, lengths, _shortest(old), np.array([new], np.uint16))


def patch_to(
    labels: LabelMap, after_kji: np.ndarray, corner: tuple[int, int, int] = (0, 0, 0), only: np.ndarray | None = None
) -> Patch:
    """Patch that gives the voxels of a part of a map other numbers; what is locked neither loses a voxel nor gets one.

    Parameters
    ----------
    after_kji : uint16 array [k, j, i]
        The numbers of the part, placed at `corner` (k, j, i).
    only : bool array [k, j, i], optional
        Change only these voxels.
    """
    part = tuple(slice(c, c + n) for c, n in zip(corner, after_kji.shape))
    allowed = labels.writable()
    changed, before = np.empty(after_kji.shape, np.uint8), labels.kji[part]
    in_halves(len(changed), lambda a, b: _differences(before[a:b], after_kji[a:b], allowed, changed[a:b]), changed.size)
    if only is not None:
        changed &= only.view(np.uint8)
    starts, lengths, old, new = _runs(labels, changed, corner, allowed, after_kji)
    return Patch(starts, lengths, _shortest(old), _shortest(new))


def sparse_difference(before: LabelMap, after: LabelMap) -> Patch:
    """The patch between two huge maps of one grid, locked labels included; memory is taken for what differs alone."""
    parts, width = [np.zeros(0, np.int64)], before.kji.shape[2]
    ours, theirs = before.kji.reshape(-1, width), after.kji.reshape(-1, width)
    step = max(1, (1 << 22) // width)
    for first in range(0, len(ours), step):
        parts.append(np.flatnonzero(ours[first : first + step] != theirs[first : first + step]) + first * width)
    index = np.concatenate(parts)
    found = patch_from_indices(index, before.flat[index], 0)
    return replace(found, new=_shortest(after.flat[index]))


def whole_difference(before: LabelMap, after: LabelMap, changed_kji: np.ndarray) -> Patch:
    """The patch between two maps of one grid where `changed_kji` (uint8) is set, locked labels included."""
    # numbers on both sides are read back voxel by voxel, in the order of the runs
    every = np.ones(LARGEST + 1, np.uint8)
    starts, lengths, old, _ = _runs(before, changed_kji, (0, 0, 0), every)
    return Patch(starts, lengths, _shortest(old), _shortest(_runs(after, changed_kji, (0, 0, 0), every)[2]))


def _runs(
    labels: LabelMap,
    mask_kji: np.ndarray,
    corner: tuple[int, int, int],
    allowed: np.ndarray,
    after_kji: np.ndarray | None = None,
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Starts and lengths of runs where a mask is set and the number is allowed; the numbers that are there, and those
    that another array has there."""
    counts, size = np.zeros((len(mask_kji), 2), np.int64), mask_kji.size
    in_halves(len(counts), lambda a, b: _count_runs(labels.kji, mask_kji, *corner, allowed, counts, a, b), size)
    first = np.cumsum(counts, 0) - counts
    runs, voxels = (int(n) for n in counts.sum(0))
    starts, lengths, old = np.zeros(runs, np.int64), np.zeros(runs, np.int32), np.zeros(voxels, np.uint16)
    given = np.zeros((0, 0, 0), np.uint16) if after_kji is None else after_kji
    new = np.zeros(0 if after_kji is None else voxels, np.uint16)
    filled = starts, lengths, old, given, new

    def fill(a: int, b: int) -> None:
        _fill_runs(labels.kji, mask_kji, *corner, allowed, *filled, first, a, b)

    in_halves(len(counts), fill, size)
    return starts, lengths, old, new


@dataclass(frozen=True)
class LabelEdit:
    """What an operation does to a label map: voxels, table, or both. Can be done, undone and journalled."""

    title: str
    patch: Patch | None = None
    table_before: LabelTable | None = None
    table_after: LabelTable | None = None

    def apply(self, labels: LabelMap) -> None:
        """Do it on a label map; numbers, counts and table follow."""
        if self.patch is not None:
            self.patch.apply(labels)
        if self.table_after is not None:
            labels.table = self.table_after

    def reversed(self) -> LabelEdit:
        """The edit that takes it back."""
        return LabelEdit(self.title, self.patch.reversed() if self.patch else None, self.table_after, self.table_before)

    @property
    def empty(self) -> bool:
        """Whether it changes nothing."""
        return (self.patch is None or self.patch.starts.size == 0) and self.table_before == self.table_after


def _shortest(values: np.ndarray) -> np.ndarray:
    return (
        values[:1].copy()
        if values.size and (values == values[0]).all()
        else (values if values.size else np.zeros(1, np.uint16))
    )


@kernel
def _write_runs(flat, starts, lengths, new):
    at = 0
    single = new.size == 1
    for r in range(starts.size):
        for v in range(starts[r], starts[r] + lengths[r]):
            flat[v] = new[0] if single else new[at]
            at += 1


@kernel
def _differences(before, after, allowed, changed):
    for k in range(after.shape[0]):
        for j in range(after.shape[1]):
            for i in range(after.shape[2]):
                a, b = before[k, j, i], after[k, j, i]
                changed[k, j, i] = a != b and allowed[a] != 0 and allowed[b] != 0


@kernel
def _count_runs(labels, mask, k0, j0, i0, allowed, counts, first, last):
    for k in range(first, last):
        runs = voxels = 0
        for j in range(mask.shape[1]):
            inside = False
            for i in range(mask.shape[2]):
                hit = mask[k, j, i] != 0 and allowed[labels[k0 + k, j0 + j, i0 + i]] != 0
                if hit:
                    voxels += 1
                    if not inside:
                        runs += 1
                inside = hit
        counts[k, 0], counts[k, 1] = runs, voxels


@kernel
def _fill_runs(labels, mask, k0, j0, i0, allowed, starts, lengths, old, after, new, before, first, last):
    """A hand may have drawn since the runs were counted: what has come since has no room, and is left out. Such a patch
    fits no state and is not kept, but it must not write where nothing is its own."""
    takes = new.size > 0
    for k in range(first, last):
        run, at = before[k, 0] - 1, before[k, 1]
        more = k + 1 < before.shape[0]
        last_run, end = (before[k + 1, 0] if more else starts.size) - 1, before[k + 1, 1] if more else old.size
        for j in range(mask.shape[1]):
            inside = False
            for i in range(mask.shape[2]):
                hit = mask[k, j, i] != 0
                if hit:
                    number = labels[k0 + k, j0 + j, i0 + i]
                    hit = allowed[number] != 0 and at < end and (inside or run < last_run)
                    if hit:
                        old[at] = number
                        if takes:
                            new[at] = after[k, j, i]
                        at += 1
                        if not inside:
                            run += 1
                            starts[run] = ((k0 + k) * labels.shape[1] + j0 + j) * np.int64(labels.shape[2]) + i0 + i
                            lengths[run] = 0
                        lengths[run] += 1
                inside = hit
