"""What the values of a region are: mean and spread, order statistics, the most frequent, how evenly they are spread."""

from __future__ import annotations

import math
from concurrent.futures import ThreadPoolExecutor

import numpy as np

BINS = 256
"""Of the histogram that tells mode and entropy of values that are no whole numbers, from the lowest to the highest."""
SHARES = (5, 25, 75, 95)
"""Percentiles that are told beside the median."""
WIDEST = 1 << 16
"""Whole numbers from the lowest to the highest up to which each has a bin of its own."""
NAMES = ("mean", "sd", "median", "mode", "minimum", "maximum", "total", *(f"p{n}" for n in SHARES), "entropy")


def intensities(row: np.ndarray, starts: np.ndarray, ends: np.ndarray) -> dict[str, np.ndarray]:
    """Statistics of values that lie one region after another.

    mean: Σx / n. sd: √(Σ(x − mean)² / (n − 1)), none of a single value. median and percentiles: between the two values
    nearest in rank, linearly (R. J. Hyndman and Y. Fan, Am. Stat. 50, 1996, definition 7). mode: the most frequent
    value, the lowest of several; of values that are no whole numbers the middle of the fullest of 256 bins from the
    lowest to the highest. entropy: −Σ p log₂ p over whole numbers, or these bins, in bits. total: Σx.

    Parameters
    ----------
    row : array
        Values; changed by this.
    starts, ends : arrays (n,)

    Returns
    -------
    dict of str to array (n,)
        float64; NaN where a region has no value.
    """
    found = {name: np.full(len(starts), np.nan) for name in NAMES}

    def some(which: range) -> None:
        for n in which:
            values = row[starts[n] : ends[n]]
            if values.size:
                for name, value in _of(values).items():
                    found[name][n] = value

    with ThreadPoolExecutor(2) as pool:  # sorting gives the lock away
        list(pool.map(some, (range(0, len(starts), 2), range(1, len(starts), 2))))
    return found


def _of(values: np.ndarray) -> dict[str, float]:
    values.sort()
    count = len(values)
    low, high = float(values[0]), float(values[-1])
    # sums of float32 would lose digits
    total = float(values.sum(dtype=np.float64))
    mean = total / count
    away = values.astype(np.float64) - mean
    sd = math.sqrt(float(away @ away) / (count - 1)) if count > 1 else math.nan
    found = {"mean": mean, "sd": sd, "minimum": low, "maximum": high, "total": total, "median": _rank(values, 50)}
    found |= {f"p{share}": _rank(values, share) for share in SHARES}
    mode, entropy = _frequent(values, low, high)
    return found | {"mode": mode, "entropy": entropy}


def _rank(values: np.ndarray, share: float) -> float:
    """A percentile of sorted values."""
    at = share / 100 * (len(values) - 1)
    low = int(at)
    one, other = float(values[low]), float(values[min(low + 1, len(values) - 1)])
    return one + (at - low) * (other - one)


def _frequent(values: np.ndarray, low: float, high: float) -> tuple[float, float]:
    """The most frequent value of sorted ones, and their entropy in bits."""
    if high <= low:
        return low, 0.0
    if values.dtype.kind in "iu":
        changes = np.flatnonzero(np.diff(values)) + 1
        edges = np.concatenate(([0], changes, [len(values)]))
        counts = np.diff(edges)
        mode = float(values[edges[int(counts.argmax())]])
    else:
        limits = low + (high - low) * np.arange(1, BINS) / BINS
        inner = np.searchsorted(values, limits.astype(values.dtype), "left")
        counts = np.diff(np.concatenate(([0], inner, [len(values)])))
        mode = low + (high - low) * (int(counts.argmax()) + 0.5) / BINS
    shares = counts[counts > 0] / len(values)
    return mode, max(0.0, float(-(shares * np.log2(shares)).sum()))
