"""Gaussian smoothing on two cores, as `scipy.ndimage.gaussian_filter` does it, in float32."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

import numpy as np

from .halves import in_halves
from .kernel import kernel

TRUNCATE = 4.0
"""Standard deviations up to which a Gaussian is taken."""


def smoothed(values: np.ndarray, sigma: Sequence[float]) -> np.ndarray:
    """Gaussian smoothing; beyond the edge the last value goes on. As `scipy.ndimage.gaussian_filter` does it."""
    found = values
    for axis, s in enumerate(sigma):
        if not s > 0 or found.shape[axis] == 1:
            continue
        half = int(TRUNCATE * s + 0.5)
        weights = np.exp(-0.5 * (np.arange(-half, half + 1) / s) ** 2)
        weights = (weights / weights.sum()).astype(np.float32)
        out = np.empty_like(found)
        if axis == 2:
            rows, target = found.reshape(-1, found.shape[2]), out.reshape(-1, found.shape[2])
            in_halves(len(rows), partial(_along_rows, rows, weights, target), found.size)
        else:
            planes = found if axis == 1 else found.reshape(1, found.shape[0], -1)
            target3 = out if axis == 1 else out.reshape(1, found.shape[0], -1)
            for plane, into in zip(planes, target3):
                across = partial(_across_rows, plane, weights, into)
                in_halves(plane.shape[0], across, plane.size)
        found = out
    return found if found is not values else values.copy()


@kernel(fastmath={"contract", "reassoc", "nsz"})
def _along_rows(rows, weights, out, first, last):
    half, n = weights.size // 2, rows.shape[1]
    padded = np.empty(n + 2 * half, np.float32)
    for r in range(first, last):
        for i in range(half):
            padded[i] = rows[r, 0]
            padded[half + n + i] = rows[r, n - 1]
        for i in range(n):
            padded[half + i] = rows[r, i]
        for i in range(n):
            out[r, i] = np.float32(0)
        for w in range(weights.size):
            weight = weights[w]
            for i in range(n):
                out[r, i] += weight * padded[i + w]


@kernel(fastmath={"contract", "reassoc", "nsz"})
def _across_rows(plane, weights, out, first, last):
    half, rows, n = weights.size // 2, plane.shape[0], plane.shape[1]
    for r in range(first, last):
        for i in range(n):
            out[r, i] = np.float32(0)
        for w in range(weights.size):
            weight = weights[w]
            source = min(max(r + w - half, 0), rows - 1)
            for i in range(n):
                out[r, i] += weight * plane[source, i]
