"""What a forest says of many voxels."""

from __future__ import annotations

import numpy as np

from ...core.classifier import Trees, ordered
from ...core.halves import in_halves
from ...core.kernel import kernel

SURE = 0.01
"""Of a tree's vote, by which a lead must be more than all trees that are left: sums are rounded."""


def shares_of(trees: Trees, features: np.ndarray, largest: bool = False) -> np.ndarray:
    """Share of the trees' votes for every class, float32 (n, classes): the mean over the trees of the shares in the
    leaves that a voxel ends in (L. Breiman, Machine Learning 45, 2001).

    Parameters
    ----------
    features : float32 array (n, features)
    largest : bool
        Whether only which share is the largest matters: trees that cannot change that are not asked any more, and
        shares are too small then.
    """
    found = np.zeros((len(features), trees.shares.shape[1]), np.float32)
    nodes, roots, depths = trees.packed
    keys, wide = ordered(features).ravel(), features.shape[1]
    count = len(features)
    asked = roots.size // 2 if largest else roots.size

    def vote(first: int, last: int) -> None:
        _vote(roots, depths, nodes, trees.shares, keys, wide, found, asked, first, last)

    in_halves(count, vote, features.size)
    return found


@kernel
def _vote(roots, depths, nodes, shares, keys, wide, found, least, first, last):
    """Eight voxels go down a tree together: their steps do not wait for one another. A leaf leads to itself, and every
    few levels it is asked whether all have ended. A block of voxels goes through one tree after the other, so that both
    stay in the processor's cache. Places are unsigned, which spares asking whether they count from the end. After
    `least` trees, voxels that are decided are left alone."""
    classes, block, few = shares.shape[1], 128, 4
    one, two, four = np.uint64(1), np.uint64(2), np.uint64(4)
    scale = np.float32(1) / np.float32(roots.size)
    open_ = np.empty(block, np.int64)
    at = np.empty(8, np.uint64)
    for start in range(first, last, block):
        end = min(start + block, last)
        count = end - start
        for n in range(count):
            open_[n] = start + n
        for t in range(roots.size):
            if t >= least and (t - least) % 2 == 0:
                count = _undecided(found, open_, count, classes, roots.size - t)
                if count == 0:
                    break
            root, depth = np.uint64(roots[t]), depths[t]
            n = 0
            while n + 8 <= count:
                a = b = c = d = e = f = g = h = root
                for m in range(8):
                    at[m] = np.uint64(open_[n + m] * wide)
                at0, at1, at2, at3, at4, at5, at6, at7 = at[0], at[1], at[2], at[3], at[4], at[5], at[6], at[7]
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
                    found[open_[n], k] += shares[a // four, k]
                    found[open_[n + 1], k] += shares[b // four, k]
                    found[open_[n + 2], k] += shares[c // four, k]
                    found[open_[n + 3], k] += shares[d // four, k]
                    found[open_[n + 4], k] += shares[e // four, k]
                    found[open_[n + 5], k] += shares[f // four, k]
                    found[open_[n + 6], k] += shares[g // four, k]
                    found[open_[n + 7], k] += shares[h // four, k]
                n += 8
            while n < count:
                node, here = root, np.uint64(open_[n] * wide)
                for _ in range(depth):
                    node = np.uint64(
                        nodes[node + two + np.uint64(keys[here + np.uint64(nodes[node])] > nodes[node + one])]
                    )
                for k in range(classes):
                    found[open_[n], k] += shares[node // four, k]
                n += 1
        for n in range(start, end):
            for k in range(classes):
                found[n, k] *= scale


@kernel
def _undecided(found, open_, count, classes, left):
    """Keep those voxels whose leading class the votes that are left can still change; how many they are."""
    kept = 0
    for n in range(count):
        most, second = np.float32(-1), np.float32(-1)
        for k in range(classes):
            v = found[open_[n], k]
            if v > most:
                most, second = v, most
            elif v > second:
                second = v
        if most - second <= left + np.float32(SURE):
            open_[kept] = open_[n]
            kept += 1
    return kept
