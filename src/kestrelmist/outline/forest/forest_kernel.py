"""What a forest says of many voxels."""

from __future__ import annotations

import numpy as np

from ...core.classifier import Trees
from ...core.halves import in_halves
from ...core.kernel import kernel


def shares_of(trees: Trees, features: np.ndarray) -> np.ndarray:
    """Share of the trees' votes for every class, float32 (n, classes): the mean over the trees of the shares in the
    leaves that a voxel ends in (L. Breiman, Machine Learning 45, 2001).

    Parameters
    ----------
    features : float32 array (n, features)
    """
    found = np.zeros((len(features), trees.shares.shape[1]), np.float32)
    tables = (trees.roots, trees.feature, trees.threshold, trees.left, trees.right, trees.shares)
    in_halves(len(features), lambda a, b: _vote(*tables, features, found, a, b), features.size)
    return found


@kernel
def _vote(roots, feature, threshold, left, right, shares, features, found, first, last):
    """A block of voxels goes through one tree after another, so that a tree stays in the processor's cache."""
    classes = shares.shape[1]
    block = 256
    scale = np.float32(1) / np.float32(roots.size)
    for start in range(first, last, block):
        end = min(start + block, last)
        for t in range(roots.size):
            root = roots[t]
            for n in range(start, end):
                node = root
                while feature[node] >= 0:
                    if features[n, feature[node]] <= threshold[node]:
                        node = left[node]
                    else:
                        node = right[node]
                for c in range(classes):
                    found[n, c] += shares[node, c]
        for n in range(start, end):
            for c in range(classes):
                found[n, c] *= scale
