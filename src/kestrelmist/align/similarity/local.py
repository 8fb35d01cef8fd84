"""Local correlation: for images of one contrast with uneven brightness, and for warps."""

from __future__ import annotations

import numpy as np

from ..similar import LEAST, Seen, Similarity, register

REACH = 3
"""Voxels to each side that are looked at round each."""


class Local:
    """One less the mean of squared correlations within cubes round every voxel (B. B. Avants et al., 2008)."""

    def __init__(self, seen: Seen):
        assert seen.shape is not None
        self.shape = seen.shape
        self.seen = seen.values.reshape(seen.shape)

    def __call__(self, found: np.ndarray, inside: np.ndarray) -> tuple[float, np.ndarray]:
        weights = inside.reshape(self.shape).astype(np.float32)
        there = (weights > 0).astype(np.float32)
        a, b = self.seen * there, found.reshape(self.shape) * there
        count = np.maximum(self._around(there), np.float32(1e-3))
        mean_a, mean_b = self._around(a) / count, self._around(b) / count
        aa = np.maximum(self._around(a * a) / count - mean_a**2, 0)
        bb = np.maximum(self._around(b * b) / count - mean_b**2, 0)
        ab = self._around(a * b) / count - mean_a * mean_b
        least = np.float32(1e-6 * max(float(aa.mean()) * float(bb.mean()), 1e-30))
        known = (aa * bb > least) & (there > 0)
        both = np.where(known, aa * bb, 1)
        whole = max(float(weights.sum(dtype=np.float64)), LEAST)
        cost = 1.0 - float((weights * np.where(known, ab * ab, 0) / both).sum()) / whole
        # a value counts in every cube that it lies in
        of_ab = np.where(known, weights * 2 * ab / (both * count), 0).astype(np.float32)
        of_bb = np.where(known, of_ab * ab / np.where(known, bb, 1), 0).astype(np.float32)
        grows = a * self._around(of_ab) - self._around(of_ab * mean_a)
        grows -= b * self._around(of_bb) - self._around(of_bb * mean_b)
        return cost, (grows * there * np.float32(-1.0 / whole)).reshape(-1)

    @staticmethod
    def _around(values: np.ndarray) -> np.ndarray:
        from scipy import ndimage

        size = [2 * REACH + 1 if n > 1 else 1 for n in values.shape]
        return ndimage.uniform_filter(values, size, mode="constant")


register(
    Similarity(
        "local-correlation",
        "Local correlation",
        Local,
        whole=True,
        score=lambda cost: 1.0 - cost,
    )
)
