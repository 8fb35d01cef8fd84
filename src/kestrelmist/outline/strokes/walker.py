"""The share of the object in every voxel, as a random walker finds it who also knows how voxels look.

L. Grady, IEEE Trans. Pattern Anal. Mach. Intell. 28, 2006, with priors as in L. Grady, CVPR 2005: neighbours go
together the more, the more alike they are; strokes hold fast. The equations are solved by relaxation in two colours.
"""

from __future__ import annotations

import numpy as np

from ...core.halves import in_halves
from ...core.kernel import kernel

OVER = 1.6
"""Over-relaxation."""
CLOSE = 2e-3
"""Largest change of a share at which they count as settled."""
MOST = 60


def walked(
    values: np.ndarray, prior: np.ndarray, weight: float, seeds: np.ndarray, beta: float, spacing, stop: np.ndarray
) -> np.ndarray:
    """Share of the object, float32 [k, j, i].

    Parameters
    ----------
    values : float32 array [k, j, i]
        What neighbours are compared by.
    prior : float32 array
        What each voxel would be by itself, 0 to 1.
    weight : number
        How much that counts beside the neighbours.
    seeds : int8 array
        1 inside, 0 outside, −1 where nothing was drawn.
    beta : number
        How fast neighbours come apart with the square of their difference.
    """
    share = np.where(seeds >= 0, seeds, prior).astype(np.float32)
    near = (min(spacing) / np.array(spacing)) ** 2
    edges = np.empty((3, *values.shape), np.float32)
    _weights(values, np.float32(beta), near.astype(np.float32), edges)
    changes = np.zeros(2, np.float32)
    for _ in range(MOST):
        changes[:] = 0
        for colour in (0, 1):
            half = values.shape[0] // 2

            def relax(first: int, last: int, colour: int = colour, half: int = half) -> None:
                found = _relax(share, edges, prior, np.float32(weight), seeds, colour, first, last, stop)
                at = int(first >= half > 0)
                changes[at] = max(changes[at], found)

            in_halves(values.shape[0], relax, values.size)
        if changes.max() < CLOSE or stop[0]:
            break
    return share


@kernel
def _weights(values, beta, near, edges):
    nk, nj, ni = values.shape
    for k in range(nk):
        for j in range(nj):
            for i in range(ni):
                here = values[k, j, i]
                edges[0, k, j, i] = near[0] * np.exp(-beta * (values[k + 1, j, i] - here) ** 2) if k + 1 < nk else 0
                edges[1, k, j, i] = near[1] * np.exp(-beta * (values[k, j + 1, i] - here) ** 2) if j + 1 < nj else 0
                edges[2, k, j, i] = near[2] * np.exp(-beta * (values[k, j, i + 1] - here) ** 2) if i + 1 < ni else 0


@kernel
def _relax(share, edges, prior, weight, seeds, colour, first, last, stop):
    nk, nj, ni = share.shape
    most = np.float32(0)
    for k in range(first, last):
        if stop[0]:
            return np.float32(0)
        for j in range(nj):
            for i in range((k + j + colour) & 1, ni, 2):
                if seeds[k, j, i] >= 0:
                    continue
                total, held = weight * prior[k, j, i], weight
                if k > 0:
                    w = edges[0, k - 1, j, i]
                    total += w * share[k - 1, j, i]
                    held += w
                if k + 1 < nk:
                    w = edges[0, k, j, i]
                    total += w * share[k + 1, j, i]
                    held += w
                if j > 0:
                    w = edges[1, k, j - 1, i]
                    total += w * share[k, j - 1, i]
                    held += w
                if j + 1 < nj:
                    w = edges[1, k, j, i]
                    total += w * share[k, j + 1, i]
                    held += w
                if i > 0:
                    w = edges[2, k, j, i - 1]
                    total += w * share[k, j, i - 1]
                    held += w
                if i + 1 < ni:
                    w = edges[2, k, j, i]
                    total += w * share[k, j, i + 1]
                    held += w
                change = np.float32(1.6) * (total / held - share[k, j, i])
                share[k, j, i] = min(max(share[k, j, i] + change, np.float32(0)), np.float32(1))
                most = max(most, abs(change))
    return most
