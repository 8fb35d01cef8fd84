"""Filling what is joined to a voxel, run by run along i."""

from __future__ import annotations

import numba
import numpy as np

from ..core.errors import Cancelled


def flood(volume_kji: np.ndarray, seed_kji: tuple[int, int, int], low: float, high: float,
          neighbours: int = 6, mask: np.ndarray | None = None, stop: np.ndarray | None = None,
          ) -> tuple[np.ndarray, int, tuple[slice, slice, slice]]:
    """Voxels with values from `low` to `high` that are joined to a seed.

    A scan-line fill (A. R. Smith, Tint fill, SIGGRAPH 1979) carried to three dimensions: whole runs along i
    are taken at once and only the first voxel of each new run in the neighbouring rows is put on the stack,
    so the work follows the region's size and not the volume's.

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
    mask = np.zeros(volume_kji.shape, np.uint8) if mask is None else mask
    stop = np.zeros(1, np.uint8) if stop is None else stop
    box = np.array([*volume_kji.shape, -1, -1, -1], np.int64)
    sides = {6: (0, -1), 18: (1, 0), 26: (1, 1)}[neighbours]
    voxels = _flood(volume_kji, *seed_kji, low, high, sides[0], sides[1], mask, box, stop)
    if voxels < 0:
        raise Cancelled
    if voxels == 0:
        return mask, 0, (slice(0, 0),) * 3
    return mask, int(voxels), tuple(slice(int(a), int(b) + 1) for a, b in zip(box[:3], box[3:]))


@numba.njit(nogil=True, cache=True)
def _flood(volume, k, j, i, low, high, face_reach, edge_reach, mask, box, stop):
    """`face_reach`: how far past a run's ends voxels of rows sharing a face with it still touch it;
    `edge_reach`: the same for rows sharing an edge, -1 when those rows do not count."""
    nk, nj, ni = volume.shape
    if mask[k, j, i] or not low <= volume[k, j, i] <= high:
        return 0
    stack = np.empty((4096, 3), np.int32)
    stack[0, 0], stack[0, 1], stack[0, 2] = k, j, i
    top, voxels, popped = 1, 0, 0
    while top > 0:
        top -= 1
        k, j, i = stack[top, 0], stack[top, 1], stack[top, 2]
        if mask[k, j, i]:
            continue
        popped += 1
        if (popped & 4095) == 0 and stop[0]:
            return -1
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
                inside = False
                for x in range(max(a - reach, 0), min(b + reach, ni - 1) + 1):
                    open_ = not mask[kk, jj, x] and low <= volume[kk, jj, x] <= high
                    if open_ and not inside:
                        if top == stack.shape[0]:
                            larger = np.empty((2 * top, 3), np.int32)
                            larger[:top] = stack
                            stack = larger
                        stack[top, 0], stack[top, 1], stack[top, 2] = kk, jj, x
                        top += 1
                    inside = open_
    return voxels
