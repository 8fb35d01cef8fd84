"""What the values of a region are: mean and spread, order statistics, the most frequent, how evenly they are spread."""

from __future__ import annotations

import math
from concurrent.futures import ThreadPoolExecutor

import numpy as np

from ...core.halves import in_halves
from ...core.kernel import kernel

BINS = 256
"""Of the histogram that tells mode and entropy of values that are no whole numbers, from the lowest to the highest."""
SHARES = (5, 25, 75, 95)
"""Percentiles that are told beside the median."""
SMALL = 20_000
"""Values of a region up to which it is worked out with others in a kernel."""
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
    sizes = ends - starts
    table = np.full((len(starts), len(NAMES)), np.nan)
    whole = row.dtype.kind in "iu"
    few = np.flatnonzero((sizes > 0) & (sizes <= SMALL))
    shares = np.array([50, *SHARES], float)
    in_halves(
        len(few), lambda a, b: _of_small(row, starts, ends, few[a:b], shares, whole, table), int(sizes[few].sum())
    )

    def some(which: np.ndarray) -> None:
        for n in which:
            told = _of(row[starts[n] : ends[n]])
            table[n] = [told[name] for name in NAMES]

    many = np.flatnonzero(sizes > SMALL)
    with ThreadPoolExecutor(2) as pool:  # sorting gives the lock away
        list(pool.map(some, (many[::2], many[1::2])))
    return {name: table[:, n] for n, name in enumerate(NAMES)}


@kernel
def _most_frequent(values, low, high, whole):
    """The most frequent of sorted values, and their entropy in bits."""
    count = values.size
    if high <= low:
        return low, 0.0
    entropy, most, mode, first = 0.0, 0, low, 0
    limit = low
    place = 0
    while first < count:
        if whole:
            last = first
            while last < count and values[last] == values[first]:
                last += 1
            value = np.float64(values[first])
        else:
            while True:
                place += 1
                limit = low + (high - low) * place / 256
                if place == 256 or values[first] < np.float32(limit):
                    break
            last = first
            while last < count and (place == 256 or values[last] < np.float32(limit)):
                last += 1
            value = low + (high - low) * (place - 0.5) / 256
        if last - first > most:
            most, mode = last - first, value
        share = (last - first) / count
        entropy -= share * np.log2(share)
        first = last
    return mode, max(0.0, entropy)


@kernel
def _of_small(row, starts, ends, which, shares, whole, table):
    """As `_of`, of many small regions; columns as NAMES has them."""
    for n in which:
        values = np.sort(row[starts[n] : ends[n]])
        count = values.size
        total = 0.0
        for v in values:
            total += v
        mean = total / count
        away = 0.0
        for v in values:
            away += (v - mean) * (v - mean)
        told = table[n]
        low, high = np.float64(values[0]), np.float64(values[count - 1])
        told[0] = mean
        if count > 1:
            told[1] = np.sqrt(away / (count - 1))
        told[4], told[5], told[6] = low, high, total
        for m in range(shares.size):
            at = shares[m] / 100 * (count - 1)
            first = int(at)
            one, other = np.float64(values[first]), np.float64(values[min(first + 1, count - 1)])
            told[2 if m == 0 else 6 + m] = one + (at - first) * (other - one)
        told[3], told[11] = _most_frequent(values, low, high, whole)


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
