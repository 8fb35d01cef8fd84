"""Correlation: for images of one contrast, whose values may differ by a gain and an offset."""

from __future__ import annotations

import numpy as np

from ..similar import LEAST, Seen, Similarity, register


class Correlation:
    """One less Pearson's coefficient."""

    def __init__(self, seen: Seen):
        self.seen = seen.values

    def __call__(self, found: np.ndarray, inside: np.ndarray) -> tuple[float, np.ndarray]:
        count = max(float(inside.sum(dtype=np.float64)), LEAST)
        mean_a, mean_b = float(np.dot(self.seen, inside)) / count, float(np.dot(found, inside)) / count
        here = inside > 0
        from_a, from_b = (self.seen - np.float32(mean_a)) * here, (found - np.float32(mean_b)) * here
        a, b = from_a * inside, from_b * inside
        aa, bb, ab = float(np.dot(a, from_a)), float(np.dot(b, from_b)), float(np.dot(a, from_b))
        if aa <= 0 or bb <= 0:
            return 1.0, np.zeros_like(found)
        both = float(np.sqrt(aa * bb))
        r = ab / both
        return 1.0 - r, b * np.float32(r / bb) - a * np.float32(1.0 / both)


register(Similarity("correlation", "Correlation", Correlation, score=lambda cost: 1.0 - cost))
