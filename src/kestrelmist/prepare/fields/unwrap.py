"""Turns of a phase that were lost put back, in space, most reliable voxels first.

Ours, since libraries that do it within a mask give another answer now and then for the same image.
"""

from __future__ import annotations

import numpy as np

from ...core.kernel import kernel

TURN = 2 * np.pi


def unwrapped_by_reliability(radians: np.ndarray, inside: np.ndarray) -> np.ndarray:
    """A phase without jumps of a turn between neighbours that are reliable, in every piece of a mask.

    A voxel is as reliable as its second differences are small; voxels are joined along faces, the most reliable ones
    first, and each piece that is joined is turned to fit (M. A. Herráez et al., Appl. Opt. 41, 2002; in three
    dimensions H. Abdul-Rahman et al., Appl. Opt. 46, 2007). A difference across the edge of the mask counts as the
    worst there is.

    Parameters
    ----------
    radians : array [k, j, i], rad
        Finite wherever the mask is.
    inside : array of bool [k, j, i]

    Returns
    -------
    float32 array [k, j, i], rad; 0 outside. Every piece is right but for whole turns of all of it.
    """
    flat = np.ascontiguousarray(np.where(inside, radians, 0), np.float32)
    within = np.ascontiguousarray(inside)
    doubt = _doubts(flat, within)
    voxels = np.arange(inside.size).reshape(inside.shape)
    firsts, steps = [], []
    for axis in range(3):
        here = tuple(slice(None, -1) if n == axis else slice(None) for n in range(3))
        there = tuple(slice(1, None) if n == axis else slice(None) for n in range(3))
        both = within[here] & within[there]
        firsts.append(voxels[here][both])
        steps.append(np.full(len(firsts[-1]), int(np.prod(inside.shape[axis + 1 :])), np.int64))
    first = np.concatenate(firsts)
    second = first + np.concatenate(steps)
    doubts = doubt.ravel()
    order = np.argsort(doubts[first] + doubts[second], kind="stable")
    turns = np.zeros(inside.size, np.int32)
    _join(flat.ravel(), first[order], second[order], turns)
    return np.where(inside, flat + np.float32(TURN) * turns.reshape(inside.shape), 0).astype(np.float32)


@kernel
def _doubts(radians, inside):
    """Sum of squares of the second differences along the 13 lines through each voxel, float32."""
    sizes = radians.shape
    found = np.zeros(sizes, np.float32)
    turn = 2 * np.pi
    for k in range(sizes[0]):
        for j in range(sizes[1]):
            for i in range(sizes[2]):
                if not inside[k, j, i]:
                    continue
                here, total = radians[k, j, i], 0.0
                for line in range(14, 27):
                    dk, dj, di = line // 9 - 1, line // 3 % 3 - 1, line % 3 - 1
                    k0, j0, i0, k1, j1, i1 = k - dk, j - dj, i - di, k + dk, j + dj, i + di
                    lower = min(k0, j0, i0) >= 0 and k0 < sizes[0] and j0 < sizes[1] and i0 < sizes[2]
                    upper = min(k1, j1, i1) >= 0 and k1 < sizes[0] and j1 < sizes[1] and i1 < sizes[2]
                    if not (lower and upper and inside[k0, j0, i0] and inside[k1, j1, i1]):
                        total += np.pi**2
                        continue
                    before, after = here - radians[k0, j0, i0], radians[k1, j1, i1] - here
                    before -= turn * np.round(before / turn)
                    after -= turn * np.round(after / turn)
                    total += (after - before) ** 2
                found[k, j, i] = total
    return found


@kernel
def _join(radians, first, second, turns):
    """Join voxels edge by edge; the smaller group is turned to fit the larger one, member by member."""
    count = radians.size
    group, following, last = np.arange(count), np.full(count, -1), np.arange(count)
    sizes = np.ones(count, np.int64)
    turn = 2 * np.pi
    for e in range(first.size):
        a, b = first[e], second[e]
        if group[a] == group[b]:
            continue
        apart = (radians[a] - radians[b]) / turn + turns[a] - turns[b]
        more = int(np.round(apart))
        large, small = group[a], group[b]
        if sizes[large] < sizes[small]:
            large, small, more = small, large, -more
        member = small
        while member >= 0:
            group[member] = large
            turns[member] += more
            member = following[member]
        following[last[large]] = small
        last[large] = last[small]
        sizes[large] += sizes[small]
