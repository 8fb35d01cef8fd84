"""How much each voxel looks like what is under the strokes of one side."""

from __future__ import annotations

import numpy as np

BINS = 96
"""Steps that values are told apart by."""


def likeness(features: list[np.ndarray], inside: np.ndarray, outside: np.ndarray) -> np.ndarray:
    """Probability of belonging to the object, by values alone, float32 [k, j, i] from 0 to 1.

    Values under the strokes are counted into bins and smoothed; several features count as if they were independent,
    each for its share.

    Parameters
    ----------
    features : list of float32 arrays [k, j, i]
    inside, outside : bool arrays like them
    """
    from scipy import ndimage

    odds = np.zeros(inside.shape, np.float32)
    for values in features:
        known = values[inside | outside]
        low, high = (float(v) for v in np.percentile(known, (0, 100)))
        spread = max(high - low, 1e-30)
        low, high = low - 0.25 * spread, high + 0.25 * spread
        at = np.clip((values - low) / (high - low) * (BINS - 1), 0, BINS - 1)
        counts = []
        for side in (inside, outside):
            mine = at[side]
            count = np.bincount(np.round(mine).astype(int), minlength=BINS).astype(float)
            # wider bins for fewer voxels (B. W. Silverman, Density Estimation, 1986)
            width = 1.06 * max(_spread(mine), 0.5) * max(len(mine), 2) ** -0.2
            smooth = ndimage.gaussian_filter1d(count, width, mode="constant")
            counts.append(smooth / max(smooth.sum(), 1e-30) + 0.02 / BINS)
        table = np.log(counts[0] / counts[1]).astype(np.float32)
        odds += np.interp(at, np.arange(BINS), table).astype(np.float32)
    odds /= max(1.0, len(features) ** 0.5)
    return (1 / (1 + np.exp(-odds))).astype(np.float32)


def _spread(values: np.ndarray) -> float:
    """A standard deviation that two clusters do not widen."""
    quarter = np.percentile(values, (25, 75))
    return float(min(values.std(), max((quarter[1] - quarter[0]) / 1.34, 0.25 * values.std())))
