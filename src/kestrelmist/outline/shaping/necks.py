"""Parts of a region that touch by necks: found from how far inside each voxel lies.

Voxels are taken up from the innermost out. Parts grow, meet, and become one where one of them hardly rises above where
they meet; else each keeps what lies nearest to it. That is a watershed of the distance (S. Beucher and C. Lantuéjoul,
Int. Workshop on Image Processing, Rennes, 1979). What it has cut too often is joined by `parts_joined`.
"""

from __future__ import annotations

import numpy as np

from ...core.errors import Cancelled
from ...core.kernel import kernel
from .parts_joined import joined_parts

LEVELS = 4096
"""Steps that distances are told apart by."""
RISES = 0.9
"""Where they meet, parts are at most this share as thick as the thinner of them."""
SPECK = 4
"""Voxels below which a part is none."""


def parts_by_necks(
    mask: np.ndarray,
    depth: np.ndarray,
    spacing,
    neck: float,
    least: float,
    seeds: np.ndarray | None,
    stop: np.ndarray,
) -> tuple[np.ndarray, int]:
    """Number of the part that each voxel belongs to, and how many there are.

    Parameters
    ----------
    mask : bool array [k, j, i]
    depth : float32 array like it
        How far inside each voxel lies.
    spacing : three lengths along k, j, i
    neck : share
        Two parts stay apart when the neck between them is at most this share as thick as the thinner of them.
    least : voxels
        Parts with fewer join others, whatever their neck.
    seeds : int32 array like the mask, optional
        Numbers from 1 on where parts begin; thickness and size do not count then.

    Returns
    -------
    int32 array [k, j, i], 1 for the largest part, 0 outside
    """
    places = np.flatnonzero(mask.ravel())
    deep = depth.ravel()[places]
    order = np.argsort(-(deep / max(float(deep.max(initial=0.0)), 1e-30) * LEVELS).astype(np.int32), kind="stable")
    numbers = np.zeros(mask.size, np.int32)
    seeded = seeds is not None
    marked = np.zeros(1, np.int32) if seeds is None else seeds.ravel()
    if seeded:
        count = flood_from_seeds(mask.shape, places[order], marked, numbers, stop)
    else:
        count = _basins(mask.shape, places[order], depth.ravel(), RISES, SPECK, numbers, stop)
    if count < 0:
        raise Cancelled
    if not seeded:
        return joined_parts(numbers.reshape(mask.shape), count, spacing, neck, least, stop)
    sizes = np.bincount(numbers)
    found = np.flatnonzero(sizes[1:]) + 1
    ranked = found[np.argsort(-sizes[found], kind="stable")]
    renumbered = np.zeros(max(sizes.size, 1), np.int32)
    renumbered[ranked] = np.arange(1, ranked.size + 1)
    return renumbered[numbers].reshape(mask.shape), int(ranked.size)


@kernel
def _root(parent, n):
    while parent[n] != n:
        parent[n] = parent[parent[n]]
        n = parent[n]
    return n


@kernel
def _basins(shape, places, depth, neck, least, numbers, stop):
    nk, nj, ni = shape
    total = places.size
    parent = np.empty(total + 1, np.int32)
    peak = np.empty(total + 1, np.float32)
    size = np.zeros(total + 1, np.int64)
    count = 0
    around = np.empty(26, np.int32)
    for n in range(total):
        if n & 0xFFFF == 0 and stop[0]:
            return -1
        at = places[n]
        here = depth[at]
        deepest, uphill = np.float32(-1.0), 0
        k, j, i = at // (nj * ni), at // ni % nj, at % ni
        met = 0
        for dk in range(-1, 2):
            for dj in range(-1, 2):
                for di in range(-1, 2):
                    a, b, c = k + dk, j + dj, i + di
                    if a < 0 or a >= nk or b < 0 or b >= nj or c < 0 or c >= ni:
                        continue
                    number = numbers[(a * nj + b) * ni + c]
                    if number == 0:
                        continue
                    root = _root(parent, number)
                    if depth[(a * nj + b) * ni + c] > deepest:
                        deepest, uphill = depth[(a * nj + b) * ni + c], root
                    known = False
                    for m in range(met):
                        known = known or around[m] == root
                    if not known:
                        around[met] = root
                        met += 1
        if met == 0:
            count += 1
            parent[count], peak[count], size[count] = count, here, 1
            numbers[at] = count
            continue
        best = around[0]
        for m in range(1, met):
            other = _root(parent, around[m])
            best = _root(parent, best)
            if other == best:
                continue
            thinner = min(peak[best], peak[other])
            if here > neck * thinner or min(size[best], size[other]) < least:
                if size[other] > size[best]:
                    best, other = other, best
                parent[other] = best
                size[best] += size[other]
                peak[best] = max(peak[best], peak[other])
        uphill = _root(parent, uphill)  # it belongs where its deepest neighbour does
        numbers[at] = uphill
        size[uphill] += 1
    for n in range(total):
        numbers[places[n]] = _root(parent, numbers[places[n]])
    return count


@kernel
def flood_from_seeds(shape, places, seeds, numbers, stop):
    """From seeds inwards out: each voxel goes to the part that reaches it first, the deepest ways first."""
    nk, nj, ni = shape
    total = places.size
    rank = np.full(nk * nj * ni, -1, np.int32)
    for n in range(total):
        rank[places[n]] = n
    # a heap of ranks that wait
    heap = np.empty(total, np.int32)
    used = 0
    most = 0
    for n in range(total):
        seed = seeds[places[n]]
        if seed > 0:
            numbers[places[n]] = seed
            most = max(most, seed)
    for n in range(total):
        if seeds[places[n]] > 0:
            used = _push_round(shape, places[n], seeds[places[n]], numbers, rank, heap, used)
    done = 0
    while used > 0:
        done += 1
        if done & 0xFFFF == 0 and stop[0]:
            return -1
        n = heap[0]
        used -= 1
        heap[0] = heap[used]
        p = 0
        while True:
            c = 2 * p + 1
            if c >= used:
                break
            if c + 1 < used and heap[c + 1] < heap[c]:
                c += 1
            if heap[p] <= heap[c]:
                break
            heap[p], heap[c] = heap[c], heap[p]
            p = c
        used = _push_round(shape, places[n], numbers[places[n]], numbers, rank, heap, used)
    return most


@kernel
def _push_round(shape, at, number, numbers, rank, heap, used):
    """Give the neighbours of a voxel that wait for a number its own, and put them on the heap."""
    nk, nj, ni = shape
    k, j, i = at // (nj * ni), at // ni % nj, at % ni
    for dk in range(-1, 2):
        for dj in range(-1, 2):
            for di in range(-1, 2):
                a, b, c = k + dk, j + dj, i + di
                if a < 0 or a >= nk or b < 0 or b >= nj or c < 0 or c >= ni:
                    continue
                other = (a * nj + b) * ni + c
                if rank[other] < 0 or numbers[other] != 0:
                    continue
                numbers[other] = number
                p = used
                heap[p] = rank[other]
                used += 1
                while p > 0 and heap[(p - 1) // 2] > heap[p]:
                    heap[(p - 1) // 2], heap[p] = heap[p], heap[(p - 1) // 2]
                    p = (p - 1) // 2
    return used
