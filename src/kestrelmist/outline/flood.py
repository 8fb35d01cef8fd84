"""Filling what is joined to a voxel."""

from __future__ import annotations

import numpy as np

from ..core.errors import Cancelled
from ..core.kernel import kernel
from .runs import BYTES_A_RUN, find_runs, reaches


def flood(
    volume_kji: np.ndarray,
    seed_kji: tuple[int, int, int],
    low: float,
    high: float,
    neighbours: int = 6,
    mask: np.ndarray | None = None,
    stop: np.ndarray | None = None,
) -> tuple[np.ndarray, int, tuple[slice, slice, slice]]:
    """Voxels with values from `low` to `high` that are joined to a seed.

    By runs (see `runs`), as long as they take less than half a byte a voxel. Volumes that noise cuts into more take a
    scan-line fill instead (A. R. Smith, Tint fill, SIGGRAPH 1979, carried to three dimensions), which needs little
    memory but jumps about in it.

    Parameters
    ----------
    volume_kji : array [k, j, i], C order
    seed_kji : index of the start voxel
    neighbours : 6, 18 or 26
        Voxels that touch by a face; by a face or an edge; by a face, an edge or a corner.
    mask : uint8 array like the volume, optional
        Filled with 1 where reached; voxels set before are never entered. New when left out.
    stop : uint8 array of one, optional
        Set to 1 from outside to give up.

    Returns
    -------
    mask : uint8 array [k, j, i]
    voxels : int
    box : the [k, j, i] slices that hold the region; empty slices when the seed is out of range

    Raises
    ------
    Cancelled
    """
    walls = mask
    mask = np.zeros(volume_kji.shape, np.uint8) if mask is None else mask
    stop = np.zeros(1, np.uint8) if stop is None else stop
    if volume_kji.dtype.kind in "iu":  # whole-number limits compare faster; those beyond the type's range are cut to it
        limits = np.iinfo(volume_kji.dtype)
        low, high = int(np.ceil(max(low, limits.min))), int(np.floor(min(high, limits.max)))
    found = find_runs(volume_kji, low, high, neighbours, walls, stop, most=int(0.5 * volume_kji.size / BYTES_A_RUN))
    if found is not None:
        start = found.at(seed_kji)
        if start < 0:
            return mask, 0, (slice(0, 0),) * 3
        voxels, box = found.fill(int(found.root[start]), mask)
    else:
        box = np.array([*volume_kji.shape, -1, -1, -1], np.int64)
        voxels = _scan_lines(volume_kji, *seed_kji, low, high, *reaches(neighbours), mask, box, stop)
    if voxels < 0:
        raise Cancelled
    if voxels == 0:
        return mask, 0, (slice(0, 0),) * 3
    k, j, i = (slice(int(a), int(b) + 1) for a, b in zip(box[:3], box[3:]))
    return mask, int(voxels), (k, j, i)


@kernel
def _scan_lines(volume, k, j, i, low, high, face_reach, edge_reach, mask, box, stop):
    """What is noted for later is kept by slice, and a slice is finished before the next is touched, so that the memory
    at work stays in the processor's cache."""
    nk, nj, ni = volume.shape
    if mask[k, j, i] or not low <= volume[k, j, i] <= high:
        return 0
    # starts of runs still to be taken: one linked list a slice, all in one pool of memory
    head = np.full(nk, -1, np.int32)
    pool = np.empty((4096, 3), np.int32)
    pool[0, 0], pool[0, 1], pool[0, 2] = j, i, -1
    head[k] = 0
    used, free, waiting, voxels, direction = 1, -1, 1, 0, 1
    while waiting > 0:
        if head[k] < 0:  # this slice is done: on to the next that waits, turning round at the end
            k += direction
            if k < 0 or k >= nk:
                direction = -direction
                k += direction
            if stop[0]:
                return -1
            continue
        n = head[k]
        j, i, head[k] = pool[n, 0], pool[n, 1], pool[n, 2]
        pool[n, 2] = free
        free = n
        waiting -= 1
        if mask[k, j, i]:
            continue
        a = i
        while a > 0 and not mask[k, j, a - 1] and low <= volume[k, j, a - 1] <= high:
            a -= 1
        b = i
        while b < ni - 1 and not mask[k, j, b + 1] and low <= volume[k, j, b + 1] <= high:
            b += 1
        for x in range(a, b + 1):
            mask[k, j, x] = 1
        voxels += b - a + 1
        box[0], box[3] = min(box[0], k), max(box[3], k)
        box[1], box[4] = min(box[1], j), max(box[4], j)
        box[2], box[5] = min(box[2], a), max(box[5], b)
        for dk in range(-1, 2):
            for dj in range(-1, 2):
                if dk == 0 and dj == 0:
                    continue
                reach = face_reach if dk == 0 or dj == 0 else edge_reach
                kk, jj = k + dk, j + dj
                if reach < 0 or kk < 0 or kk >= nk or jj < 0 or jj >= nj:
                    continue
                x, last = max(a - reach, 0), min(b + reach, ni - 1)
                while x <= last:
                    if mask[kk, jj, x] or not low <= volume[kk, jj, x] <= high:
                        x += 1
                        continue
                    n = free
                    if n >= 0:
                        free = pool[n, 2]
                    else:
                        if used == pool.shape[0]:
                            larger = np.empty((2 * used, 3), np.int32)
                            larger[:used] = pool
                            pool = larger
                        n = used
                        used += 1
                    pool[n, 0], pool[n, 1], pool[n, 2] = jj, x, head[kk]
                    head[kk] = n
                    waiting += 1
                    x += 1
                    while x <= last and not mask[kk, jj, x] and low <= volume[kk, jj, x] <= high:
                        x += 1
    return voxels
