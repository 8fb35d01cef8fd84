"""Which voxels lie within a length of a region: the base of growing, shrinking, opening and closing.

A ball of any size costs three sweeps along rows, and no list of its voxels is made: squared distances are put together
axis by axis, and only as far as the ball reaches. After A. Meijster, J. B. T. M. Roerdink, W. H. Hesselink, A general
algorithm for computing distance transforms in linear time, 2000, with bounded distances in place of envelopes: what
is summed up so runs through memory in order, several voxels at a time.
"""

from __future__ import annotations

import numpy as np

from ...core.halves import in_halves
from ...core.kernel import kernel
from ...core.progress import Progress, silent
from ...core.space import Space

EXACT = 1 + 1e-5
"""A voxel just as far as the length belongs, whatever the last digit of a spacing."""
FAR = np.float32(1e30)
LONGEST = 40
"""Voxels of a ball's half, above which distances without a bound are quicker."""


def near(mask_kji: np.ndarray, length: float, space: Space, progress: Progress | None = None) -> np.ndarray:
    """Voxels whose middle lies no further than a length from that of a voxel of a region.

    Parameters
    ----------
    mask_kji : bool or uint8 array [k, j, i]
    length : in the unit of the space
    space : Space
        Of whose grid the array is a part: its voxel sizes and angles count.

    Returns
    -------
    uint8 array [k, j, i]

    Raises
    ------
    Cancelled
    """
    progress = progress or silent()
    progress.at(0.0)
    steps = space.affine[:3, :3][:, ::-1]
    spacing = np.linalg.norm(steps, axis=0)
    mask = np.ascontiguousarray(mask_kji).view(np.uint8)
    if not straight(space):
        return _near_sheared(mask, length, steps, progress)
    reach = np.minimum(np.floor(length * EXACT / spacing), np.array(mask.shape) - 1).astype(np.int64)
    if reach.max(initial=0) > LONGEST:
        return _near_long(mask, length, spacing, progress)
    out = np.zeros(mask.shape, np.uint8)
    limit = np.float32((length * EXACT) ** 2)
    costs = [np.float32(n**2 * s**2) for s in spacing for n in range(LONGEST + 1)]
    table = np.array(costs, np.float32).reshape(3, -1)

    def sweep(first: int, last: int) -> None:
        _sweep(mask, reach, table, limit, first, last, out, progress.stop)

    in_halves(mask.shape[0], sweep, mask.size)
    progress.at(1.0)
    return out


def straight(space: Space) -> bool:
    """Whether the axes of a grid stand at right angles."""
    ways = space.affine[:3, :3] / np.array(space.spacing)
    return bool(np.abs(ways.T @ ways - np.eye(3)).max() < 1e-4)


def _near_long(mask: np.ndarray, length: float, spacing: np.ndarray, progress: Progress) -> np.ndarray:
    """The same by distances from SimpleITK (C. R. Maurer et al., IEEE Trans. Pattern Anal. Mach. Intell. 25, 2003)."""
    if not mask.any():
        return np.zeros(mask.shape, np.uint8)
    import SimpleITK as sitk

    picture = sitk.GetImageFromArray((mask != 0).view(np.uint8))
    picture.SetSpacing([float(s) for s in spacing[::-1]])
    away = sitk.SignedMaurerDistanceMapImageFilter()
    away.SetSquaredDistance(False)
    away.SetUseImageSpacing(True)
    away.SetInsideIsPositive(False)
    distances = away.Execute(picture)  # kept by a name: the view below does not keep it
    found = sitk.GetArrayViewFromImage(distances) <= length * EXACT
    progress.at(1.0)
    return (found | (mask != 0)).view(np.uint8)


def _near_sheared(mask: np.ndarray, length: float, steps: np.ndarray, progress: Progress) -> np.ndarray:
    """The same where axes are no right angles: each voxel asks for the nearest one of the region's edge."""
    from scipy.spatial import cKDTree

    from ..compare import boundary

    inside = mask != 0
    out = inside.copy()
    if inside.any():
        tree = cKDTree(np.argwhere(boundary(inside)) @ steps.T)
        asked = np.argwhere(~inside)
        for start in range(0, len(asked), 1 << 18):
            progress.at(start / len(asked))
            part = asked[start : start + (1 << 18)]
            hit = np.isfinite(tree.query(part @ steps.T, distance_upper_bound=length * EXACT, workers=2)[0])
            out[tuple(part[hit].T)] = True
    progress.at(1.0)
    return out.view(np.uint8)


@kernel(fastmath={"contract", "nsz"})
def _sweep(mask, reach, costs, limit, first, last, out, stop):
    """Slices `first` to `last` (not in it). Squared distances within the slices that reach there are kept in a ring."""
    nk, nj, ni = mask.shape
    rk, rj, ri = reach
    ring = np.empty((2 * rk + 1, nj, ni), np.float32)
    some = np.zeros(2 * rk + 1, np.uint8)
    along = np.empty((nj, ni), np.float32)
    there = np.zeros(nj, np.uint8)
    done = max(0, first - rk)
    best = np.empty(ni, np.float32)
    for k in range(first, last):
        if stop[0]:
            return
        while done <= min(nk - 1, k + rk):
            _in_slice(mask[done], rj, ri, costs, along, there, ring[done % (2 * rk + 1)], some, done % (2 * rk + 1))
            done += 1
        for j in range(nj):
            anything = False
            for other in range(max(0, k - rk), min(nk, k + rk + 1)):
                slot = other % (2 * rk + 1)
                if not some[slot]:
                    continue
                cost = costs[0, abs(other - k)]
                row = ring[slot, j]
                if not anything:
                    for i in range(ni):
                        best[i] = row[i] + cost
                    anything = True
                else:
                    for i in range(ni):
                        best[i] = min(best[i], row[i] + cost)
            if anything:
                for i in range(ni):
                    out[k, j, i] = best[i] <= limit


@kernel(fastmath={"contract", "nsz"})
def _in_slice(mask, rj, ri, costs, along, there, found, some, slot):
    """Squared distances within one slice."""
    nj, ni = mask.shape
    some[slot] = 0
    for j in range(nj):
        away = ri + 1
        there[j] = 0
        for i in range(ni):
            away = 0 if mask[j, i] else away + 1
            along[j, i] = costs[2, away] if away <= ri else FAR
            there[j] |= mask[j, i] != 0
        if not there[j]:
            continue
        some[slot] = 1
        away = ri + 1
        for i in range(ni - 1, -1, -1):
            away = 0 if mask[j, i] else away + 1
            if away <= ri and costs[2, away] < along[j, i]:
                along[j, i] = costs[2, away]
    if not some[slot]:
        return
    for j in range(nj):
        row = found[j]
        for i in range(ni):
            row[i] = FAR
        for other in range(max(0, j - rj), min(nj, j + rj + 1)):
            if there[other]:
                cost, near_row = costs[1, abs(other - j)], along[other]
                for i in range(ni):
                    row[i] = min(row[i], near_row[i] + cost)
