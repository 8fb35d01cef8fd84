"""How much each voxel looks like what is under the strokes of one side."""

from __future__ import annotations

import numpy as np

BINS = 96
"""Steps that values are told apart by."""
ELSEWHERE = 0.3
"""Share of what is outside that nobody has drawn on: it looks like anything that is there."""


def likeness(values: np.ndarray, inside: np.ndarray, outside: np.ndarray) -> np.ndarray:
    """Logarithm of the odds of belonging to the object, by values alone, float32 [k, j, i].

    Values under the strokes are counted into bins and smoothed, the wider the fewer they are (B. W. Silverman, Density
    Estimation, 1986).

    Parameters
    ----------
    values : float32 array [k, j, i]
    inside, outside : bool arrays like it
    """
    from scipy import ndimage

    drawn = values[inside | outside]
    low, high = (float(v) for v in np.percentile(values, (0.5, 99.5)))
    low, high = min(low, float(drawn.min())), max(high, float(drawn.max()))
    spread = max(high - low, 1e-30)
    low, high = low - 0.1 * spread, high + 0.1 * spread
    at = np.clip((values - low) / (high - low) * (BINS - 1), 0, BINS - 1)
    sides = at[inside], at[outside]
    # of one width for all: a narrower bump is higher, and would be taken for more likely
    width = float(np.mean([1.06 * max(_spread(mine), 0.5) * max(len(mine), 2) ** -0.2 for mine in sides]))
    shares = []
    for mine in (*sides, at.ravel()):
        count = np.bincount(np.round(mine).astype(int), minlength=BINS).astype(float)
        smooth = ndimage.gaussian_filter1d(count, width, mode="constant")
        shares.append(smooth / max(smooth.sum(), 1e-30))
    out = (1 - ELSEWHERE) * shares[1] + ELSEWHERE * shares[2]
    table = np.log((0.98 * shares[0] + 0.02 / BINS) / (out + 0.02 / BINS))
    return np.interp(at, np.arange(BINS), table).astype(np.float32)


def _spread(values: np.ndarray) -> float:
    """A standard deviation that two clusters do not widen."""
    quarter = np.percentile(values, (25, 75))
    return float(min(values.std(), max((quarter[1] - quarter[0]) / 1.34, 0.25 * values.std())))
