"""Correlation: for images of one contrast, whose values may differ by a gain and an offset."""

from __future__ import annotations

import numpy as np

from ..similar import Seen, Similarity, register


class Correlation:
    """One less Pearson's coefficient."""

    def __init__(self, seen: Seen):
        self.seen = seen.values

    def __call__(self, found: np.ndarray, inside: np.ndarray) -> tuple[float, np.ndarray]:
        count = max(float(inside.sum()), 1.0)
        mean_a, mean_b = float(np.dot(self.seen, inside)) / count, float(np.dot(found, inside)) / count
        a, b = (self.seen - np.float32(mean_a)) * inside, (found - np.float32(mean_b)) * inside
        aa, bb, ab = float(np.dot(a, a)), float(np.dot(b, b)), float(np.dot(a, b))
        if aa <= 0 or bb <= 0:
            return 1.0, np.zeros_like(found)
        both = float(np.sqrt(aa * bb))
        r = ab / both
        return 1.0 - r, b * np.float32(r / bb) - a * np.float32(1.0 / both)


register(Similarity("correlation", "Correlation", Correlation, score=lambda cost: 1.0 - cost))
