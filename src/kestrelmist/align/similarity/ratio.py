"""The correlation ratio: for images where each value of one goes with one value of the other."""

from __future__ import annotations

import numpy as np

from ..similar import LEAST, Seen, Similarity, register

BINS = 64


class Ratio:
    """The share of the moving image's variance that is left within bins of the fixed one (A. Roche et al., 1998)."""

    def __init__(self, seen: Seen):
        low, high = (float(v) for v in np.percentile(seen.values, (0.2, 99.8)))
        step = (high - low) / BINS if high > low else 1.0
        self.bin = np.clip((seen.values - low) / step, 0, BINS - 1).astype(np.intp)

    def __call__(self, found: np.ndarray, inside: np.ndarray) -> tuple[float, np.ndarray]:
        weights = inside.astype(np.float64)
        count = np.bincount(self.bin, weights, BINS)
        total = np.bincount(self.bin, weights * found, BINS)
        whole = max(float(count.sum()), LEAST)
        mean = float(total.sum()) / whole
        means = (total / np.maximum(count, 1e-9)).astype(np.float32)
        here = inside > 0
        from_bins, from_mean = (found - means[self.bin]) * here, (found - np.float32(mean)) * here
        left, all_of_it = from_bins * inside, from_mean * inside
        spread = float(np.dot(all_of_it, from_mean))
        if spread <= 0:
            return 1.0, np.zeros_like(found)
        cost = float(np.dot(left, from_bins)) / spread
        return cost, (left - np.float32(cost) * all_of_it) * np.float32(2.0 / spread)


register(
    Similarity(
        "correlation-ratio",
        "Correlation ratio",
        Ratio,
        score=lambda cost: 1.0 - cost,
    )
)
