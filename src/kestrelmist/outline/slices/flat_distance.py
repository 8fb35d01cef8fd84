"""Signed distances within one slice."""

from __future__ import annotations

import numpy as np

from ...core.kernel import kernel


def signed_distance(mask: np.ndarray, spacing: tuple[float, float]) -> np.ndarray:
    """How deep inside a region each pixel lies, negative outside; 0 is the edge half-way between two middles.

    Exact, by lower envelopes of parabolas (P. F. Felzenszwalb and D. P. Huttenlocher, Theory of Computing 8, 2012).

    Parameters
    ----------
    mask : bool array [row, column], neither empty nor full
    spacing : two numbers
        Of rows and of columns.

    Returns
    -------
    float32 array like the mask
    """
    found = np.empty(mask.shape, np.float32)
    flags = np.ascontiguousarray(mask).view(np.uint8)
    _signed(flags, float(spacing[0]), float(spacing[1]), found)
    return found


@kernel
def _signed(mask, high, wide, found):
    half = min(high, wide) / 2
    rows, columns = mask.shape
    along = np.empty((rows, columns), np.float64)
    for side in range(2):
        # side 0: distance of pixels outside to the inside; side 1: the other way round
        for j in range(rows):
            away = 1e15
            for i in range(columns):
                away = 0.0 if (mask[j, i] != 0) == (side == 0) else away + wide
                along[j, i] = away
            away = 1e15
            for i in range(columns - 1, -1, -1):
                away = 0.0 if (mask[j, i] != 0) == (side == 0) else away + wide
                if away < along[j, i]:
                    along[j, i] = away
        vertex = np.empty(rows, np.int64)
        start = np.empty(rows + 1, np.float64)
        for i in range(columns):
            n = -1
            for j in range(rows):
                height = along[j, i]
                if height >= 1e14:
                    continue
                value = height * height + (j * high) ** 2
                while n >= 0:
                    last = vertex[n]
                    before = along[last, i] ** 2 + (last * high) ** 2
                    meet = (value - before) / (2 * high * (j - last) * high)
                    if meet > start[n]:
                        break
                    n -= 1
                n += 1
                vertex[n] = j
                start[n] = -1e30 if n == 0 else meet
            if n < 0:
                for j in range(rows):
                    if (mask[j, i] != 0) == (side == 1):
                        found[j, i] = 1e6 if side == 1 else -1e6
                continue
            start[n + 1] = 1e30
            at = 0
            for j in range(rows):
                while start[at + 1] < j:
                    at += 1
                if (mask[j, i] != 0) == (side == 1):
                    from_row = vertex[at]
                    away = np.sqrt(along[from_row, i] ** 2 + ((j - from_row) * high) ** 2)
                    found[j, i] = (away - half) if side == 1 else (half - away)
