"""What a forest says of many voxels."""

from __future__ import annotations

import numpy as np

from ...core.classifier import Trees, ordered
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
    nodes, roots, depths = trees.packed
    keys, wide = ordered(features).ravel(), features.shape[1]
    count = len(features)
    in_halves(count, lambda a, b: _vote(roots, depths, nodes, trees.shares, keys, wide, found, a, b), features.size)
    return found


@kernel
def _vote(roots, depths, nodes, shares, keys, wide, found, first, last):
    """Eight voxels go down a tree together: their steps do not wait for one another. A leaf leads to itself, and every
    few levels it is asked whether all have ended. A block of voxels goes through one tree after the other, so that both
    stay in the processor's cache. Places are unsigned, which spares asking whether they count from the end."""
    classes, block, few = shares.shape[1], 128, 4
    one, two, four = np.uint64(1), np.uint64(2), np.uint64(4)
    scale = np.float32(1) / np.float32(roots.size)
    for start in range(first, last, block):
        end = min(start + block, last)
        for t in range(roots.size):
            root, depth = np.uint64(roots[t]), depths[t]
            n = start
            while n + 8 <= end:
                a = b = c = d = e = f = g = h = root
                at0 = np.uint64((n + 0) * wide)
                at1 = np.uint64((n + 1) * wide)
                at2 = np.uint64((n + 2) * wide)
                at3 = np.uint64((n + 3) * wide)
                at4 = np.uint64((n + 4) * wide)
                at5 = np.uint64((n + 5) * wide)
                at6 = np.uint64((n + 6) * wide)
                at7 = np.uint64((n + 7) * wide)
                level = 0
                while level < depth:
                    for _ in range(few):
                        a = np.uint64(nodes[a + two + np.uint64(keys[at0 + np.uint64(nodes[a])] > nodes[a + one])])
                        b = np.uint64(nodes[b + two + np.uint64(keys[at1 + np.uint64(nodes[b])] > nodes[b + one])])
                        c = np.uint64(nodes[c + two + np.uint64(keys[at2 + np.uint64(nodes[c])] > nodes[c + one])])
                        d = np.uint64(nodes[d + two + np.uint64(keys[at3 + np.uint64(nodes[d])] > nodes[d + one])])
                        e = np.uint64(nodes[e + two + np.uint64(keys[at4 + np.uint64(nodes[e])] > nodes[e + one])])
                        f = np.uint64(nodes[f + two + np.uint64(keys[at5 + np.uint64(nodes[f])] > nodes[f + one])])
                        g = np.uint64(nodes[g + two + np.uint64(keys[at6 + np.uint64(nodes[g])] > nodes[g + one])])
                        h = np.uint64(nodes[h + two + np.uint64(keys[at7 + np.uint64(nodes[h])] > nodes[h + one])])
                    level += few
                    ended = nodes[a + two] == a and nodes[b + two] == b and nodes[c + two] == c and nodes[d + two] == d
                    if (
                        ended
                        and nodes[e + two] == e
                        and nodes[f + two] == f
                        and nodes[g + two] == g
                        and nodes[h + two] == h
                    ):
                        break
                for k in range(classes):
                    found[n, k] += shares[a // four, k]
                    found[n + 1, k] += shares[b // four, k]
                    found[n + 2, k] += shares[c // four, k]
                    found[n + 3, k] += shares[d // four, k]
                    found[n + 4, k] += shares[e // four, k]
                    found[n + 5, k] += shares[f // four, k]
                    found[n + 6, k] += shares[g // four, k]
                    found[n + 7, k] += shares[h // four, k]
                n += 8
            while n < end:
                node, at = root, np.uint64(n * wide)
                for _ in range(depth):
                    node = np.uint64(
                        nodes[node + two + np.uint64(keys[at + np.uint64(nodes[node])] > nodes[node + one])]
                    )
                for k in range(classes):
                    found[n, k] += shares[node // four, k]
                n += 1
        for n in range(start, end):
            for k in range(classes):
                found[n, k] *= scale
