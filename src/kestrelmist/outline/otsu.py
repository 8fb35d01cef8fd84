"""Limits between classes of values, by their histogram."""

from __future__ import annotations

import numpy as np

BINS = 192


def otsu_limits(values: np.ndarray, classes: int = 2) -> list[float]:
    """Limits that part values into two or three classes as far apart as can be.

    N. Otsu, IEEE Trans. SMC 9, 1979: the variance between classes is largest; of three classes every pair of limits is
    tried.

    Parameters
    ----------
    values : array
        Values that are no numbers are left out.
    classes : 2 or 3

    Returns
    -------
    list of float
        One limit fewer than classes, rising; empty when all values are equal or there are none.
    """
    known = np.asarray(values, float).ravel()
    known = known[np.isfinite(known)]
    if not known.size:
        return []
    low, high = np.percentile(known, (0.1, 99.9))
    if not high > low:
        return []
    counts, edges = np.histogram(np.clip(known, low, high), BINS, (low, high))
    middles = (edges[1:] + edges[:-1]) / 2
    weight, moment = np.cumsum(counts), np.cumsum(counts * middles)
    total, whole = weight[-1], moment[-1]

    def between(a_weight, a_moment):
        return np.where(a_weight > 0, a_moment**2 / np.maximum(a_weight, 1e-30), 0)

    if classes == 2:
        spread = between(weight, moment) + between(total - weight, whole - moment)
        best = np.flatnonzero(spread[:-1] >= spread[:-1].max() * (1 - 1e-12))
        return [float(edges[1 + int(round(best.mean()))])]
    first, second = weight[:, None], weight[None, :]
    spread = between(first, moment[:, None]) + between(second - first, moment[None, :] - moment[:, None])
    spread = np.where(np.arange(BINS)[:, None] < np.arange(BINS)[None, :], spread, -np.inf)
    spread = spread + between(total - second, whole - moment[None, :])
    a, b = np.unravel_index(int(np.argmax(spread[:-1, :-1])), (BINS - 1, BINS - 1))
    return [float(edges[a + 1]), float(edges[b + 1])]
