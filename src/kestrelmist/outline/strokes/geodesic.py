"""Geodesic distances from strokes: ways are long where they lead through what does not look like the object."""

from __future__ import annotations

import numpy as np

from ...core.kernel import kernel

FAR = np.float32(1e20)
ROUNDS = 4
"""Sweeps there and back at most; ways that wind more than so often are found a little too long."""


def geodesic(start: np.ndarray, cost: np.ndarray, spacing, stop: np.ndarray) -> np.ndarray:
    """Length of the cheapest way from marked voxels to every other one.

    By sweeps through the volume there and back (P. J. Toivanen, Pattern Recognition Letters 17, 1996; A. Criminisi et
    al., ECCV 2008).

    Parameters
    ----------
    start : bool or uint8 array [k, j, i]
    cost : float32 array like it
        What a unit of length costs in each voxel, above 0.
    spacing : three numbers along k, j, i

    Returns
    -------
    float32 array
    """
    away = np.where(start, np.float32(0), FAR).astype(np.float32)
    steps = np.array(spacing, np.float64)
    for _ in range(ROUNDS):
        if not _sweep(away, np.ascontiguousarray(cost, np.float32), steps, stop):
            break
    return away


@kernel
def _sweep(away, cost, steps, stop):
    nk, nj, ni = away.shape
    shift = np.empty((13, 3), np.int64)
    length = np.empty(13, np.float32)
    n = 0
    for dk in range(-1, 1):
        for dj in range(-1, 2):
            for di in range(-1, 2):
                if dk == 0 and (dj > 0 or (dj == 0 and di >= 0)):
                    continue
                shift[n, 0], shift[n, 1], shift[n, 2] = dk, dj, di
                length[n] = np.sqrt((dk * steps[0]) ** 2 + (dj * steps[1]) ** 2 + (di * steps[2]) ** 2)
                n += 1
    changed = False
    for turn in range(2):
        sign = 1 if turn == 0 else -1
        for kk in range(nk):
            if stop[0]:
                return False
            k = kk if turn == 0 else nk - 1 - kk
            for jj in range(nj):
                j = jj if turn == 0 else nj - 1 - jj
                for ii in range(ni):
                    i = ii if turn == 0 else ni - 1 - ii
                    best = away[k, j, i]
                    here = cost[k, j, i]
                    for m in range(n):
                        a, b, c = k + sign * shift[m, 0], j + sign * shift[m, 1], i + sign * shift[m, 2]
                        if a < 0 or a >= nk or b < 0 or b >= nj or c < 0 or c >= ni:
                            continue
                        way = away[a, b, c] + length[m] * np.float32(0.5) * (here + cost[a, b, c])
                        if way < best:
                            best = way
                            changed = True
                    away[k, j, i] = best
    return changed
