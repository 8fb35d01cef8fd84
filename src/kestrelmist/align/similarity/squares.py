"""Mean squares: for images whose values mean the same, such as two CT scans."""

from __future__ import annotations

import numpy as np

from ..similar import LEAST, Seen, Similarity, register


class Squares:
    """Mean of the squared differences, in shares of the variance of the fixed image."""

    def __init__(self, seen: Seen):
        self.seen = seen.values
        self.spread = max(float(np.var(seen.values, dtype=np.float64)), 1e-30)

    def __call__(self, found: np.ndarray, inside: np.ndarray) -> tuple[float, np.ndarray]:
        away = (found - self.seen) * (inside > 0)
        weighted = away * inside
        count = max(float(inside.sum(dtype=np.float64)), LEAST) * self.spread
        return float(np.dot(away, weighted)) / count, weighted * np.float32(2.0 / count)


register(Similarity("squares", "Mean squares", Squares, score=lambda cost: -cost))
