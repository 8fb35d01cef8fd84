"""The share of the object in every voxel, as a random walker finds it who also knows how voxels look.

L. Grady, IEEE Trans. Pattern Anal. Mach. Intell. 28, 2006, with priors as in L. Grady, CVPR 2005: neighbours go
together the more, the more alike they are; strokes hold fast. The equations are solved by relaxation in two colours,
from coarse grids to the one that is asked for.
"""

from __future__ import annotations

import numpy as np

from ...core.halves import in_halves
from ...core.kernel import kernel

OVER = 1.6
"""Over-relaxation."""
CLOSE = 1e-3
"""Largest change of a share at which they count as settled."""
MOST = 60
LEAST = 1e-4
"""Of the ease in even tissue, what is left across the steepest edge."""
COARSE = 6_000
"""Voxels of the coarsest grid."""


def walked(
    values: np.ndarray,
    ease: np.ndarray,
    prior: np.ndarray,
    weight: float,
    seeds: np.ndarray,
    beta: float,
    spacing,
    stop: np.ndarray,
) -> np.ndarray:
    """Share of the object, float32 [k, j, i].

    Parameters
    ----------
    values : float32 array [k, j, i]
        What neighbours are compared by.
    ease : float32 array
        How easily one walks there, above 0; what is between two voxels counts by the mean of both.
    prior : float32 array
        What each voxel would be by itself, 0 to 1.
    weight : number
        How much that counts beside the neighbours.
    seeds : int8 array
        1 inside, 0 outside, −1 where nothing was drawn.
    beta : number
        How fast neighbours come apart with the square of their difference.
    """
    steps = [2 if n > 8 else 1 for n in values.shape]
    if values.size > COARSE and max(steps) > 1:
        small, easy, would_be = (_pooled(one, steps, np.mean) for one in (values, ease, prior))
        wide = [s * n for s, n in zip(spacing, steps)]
        coarse = walked(small, easy, would_be, weight * 4, _pooled(seeds, steps, np.max), beta, wide, stop)
        for axis, n in enumerate(steps):
            coarse = np.repeat(coarse, n, axis) if n > 1 else coarse
        share = coarse[tuple(slice(0, n) for n in values.shape)]
    else:
        share = prior
    share = np.where(seeds >= 0, seeds, share).astype(np.float32)
    near = (min(spacing) / np.array(spacing)) ** 2
    edges = np.empty((3, *values.shape), np.float32)
    _weights(values, ease, np.float32(beta), near.astype(np.float32), edges)
    changes = np.zeros(2, np.float32)
    for _ in range(MOST):
        changes[:] = 0
        for colour in (0, 1):
            half = values.shape[0] // 2

            def relax(first: int, last: int, colour: int = colour, half: int = half) -> None:
                found = _relax(share, edges, ease, prior, np.float32(weight), seeds, colour, first, last, stop)
                at = int(first >= half > 0)
                changes[at] = max(changes[at], found)

            in_halves(values.shape[0], relax, values.size)
        if changes.max() < CLOSE or stop[0]:
            break
    return share


def _pooled(values: np.ndarray, steps: list[int], how) -> np.ndarray:
    """A grid of coarser voxels; what is over at an end counts for the last one."""
    more = [(0, -n % s) for n, s in zip(values.shape, steps)]
    padded = np.pad(values, more, mode="edge")
    blocks = padded.reshape([m for n, s in zip(padded.shape, steps) for m in (n // s, s)])
    return np.ascontiguousarray(how(blocks, (1, 3, 5)).astype(values.dtype))


@kernel
def _weights(values, ease, beta, near, edges):
    nk, nj, ni = values.shape
    shift = ((1, 0, 0), (0, 1, 0), (0, 0, 1))
    for k in range(nk):
        for j in range(nj):
            for i in range(ni):
                here, easy = values[k, j, i], ease[k, j, i]
                for n in range(3):
                    a, b, c = k + shift[n][0], j + shift[n][1], i + shift[n][2]
                    if a < nk and b < nj and c < ni:
                        alike = np.exp(-beta * (values[a, b, c] - here) ** 2) + np.float32(LEAST)
                        edges[n, k, j, i] = near[n] * np.float32(0.5) * (easy + ease[a, b, c]) * alike
                    else:
                        edges[n, k, j, i] = 0


@kernel
def _relax(share, edges, ease, prior, weight, seeds, colour, first, last, stop):
    nk, nj, ni = share.shape
    most = np.float32(0)
    for k in range(first, last):
        if stop[0]:
            return np.float32(0)
        for j in range(nj):
            for i in range((k + j + colour) & 1, ni, 2):
                if seeds[k, j, i] >= 0:
                    continue
                held = weight * ease[k, j, i]
                total = held * prior[k, j, i]
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
