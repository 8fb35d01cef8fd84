"""Blobs of about one size: where each has its middle, and which pixels are its own.

A blob of diameter d answers most to the Laplacian of a Gaussian of d / (2 √2) (T. Lindeberg, Int. J. Comput. Vis. 30,
1998). Its middle is where the answer is highest round about; it grows from there downhill (watershed: L. Vincent and P.
Soille, IEEE Trans. Pattern Anal. Mach. Intell. 13, 1991) as far as the image lies above its ground.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ...core.gaussian import smoothed
from ...core.halves import in_halves
from ...core.kernel import kernel
from ..shaping.necks import flood_from_seeds

SIZES = (0.6, 0.85, 1.1)
"""Sizes that are looked for, in diameters."""
NEAR = 0.38
"""Diameters within which one middle stands for all."""
FAINT = 0.3
"""Answer that counts, as a share of what a disc answers whose height is that at which cells begin, times two."""
SMOOTH = 0.09
"""Diameters over which the image is smoothed before it is cut at its ground."""
HALO = 3.0
"""Diameters round a part that are looked at as well."""


@dataclass(frozen=True)
class Blobs:
    """Blobs of a part of an image: their numbers [k, j, i] (int32, 0 for none), and their middles (n, 3) as k, j, i, in
    the order of their numbers."""

    numbers: np.ndarray
    middles: np.ndarray


def blobs_in(values: np.ndarray, sign: float, ground: np.ndarray, limit: float, diameter, stop: np.ndarray) -> Blobs:
    """Find blobs.

    Parameters
    ----------
    values : float32 array [k, j, i]
    sign : 1 or −1
    ground : float32 array like it
    limit : number
        Height above the ground at which they begin.
    diameter : voxels along k, j, i
        0 along an axis of one voxel.
    """
    heights = np.float32(sign) * (values - ground)
    heights = np.where(np.isfinite(heights), heights, np.float32(0)).astype(np.float32)
    wide = np.array(diameter, float)
    axes = [n for n in range(3) if values.shape[n] > 1]
    mask = smoothed(heights, (SMOOTH * wide).tolist()) > limit
    if not mask.any():
        return Blobs(np.zeros(values.shape, np.int32), np.zeros((0, 3), int))
    answer = np.full(values.shape, np.float32(-1e30))
    for size in SIZES:
        sigma = np.where(wide > 0, size * wide / (2 * np.sqrt(2.0)), 0)
        _answer_at(smoothed(heights, sigma.tolist()), sigma.astype(np.float32), answer)
    radius = [max(1, int(round(NEAR * wide[n]))) if n in axes else 0 for n in range(3)]
    least = FAINT * 2 * limit
    middles = _peaks(answer, mask, radius, least)
    seeds = np.zeros(values.shape, np.int32)
    seeds[tuple(middles.T)] = np.arange(1, len(middles) + 1)
    numbers = np.zeros(values.size, np.int32)
    places = np.flatnonzero(mask.ravel())
    order = np.argsort(-answer.ravel()[places], kind="stable")
    flood_from_seeds(values.shape, places[order], seeds.ravel(), numbers, stop)
    return Blobs(numbers.reshape(values.shape), middles)


def _answer_at(soft: np.ndarray, sigma: np.ndarray, answer: np.ndarray) -> None:
    in_halves(soft.shape[0] * soft.shape[1], lambda a, b: _answer(soft, sigma, answer, a, b), soft.size)


def _peaks(answer: np.ndarray, mask: np.ndarray, radius: list[int], least: float) -> np.ndarray:
    """Where the answer is highest within a radius, inside the mask."""
    from scipy import ndimage

    highest = answer
    for axis, r in enumerate(radius):  # a square is quick, and the disc settles what is left
        if r:
            highest = ndimage.maximum_filter1d(highest, 2 * max(1, int(r * 0.7)) + 1, axis=axis, mode="nearest")
    found = np.argwhere((answer == highest) & mask & (answer > least))
    if not len(found):
        return found
    strength = answer[tuple(found.T)]
    order = np.argsort(-strength, kind="stable")
    return found[order][_alone(found[order], np.maximum(radius, 1))]


def _alone(found: np.ndarray, radius: np.ndarray) -> np.ndarray:
    """Of places in order of strength, those that lie near no stronger one."""
    from scipy.spatial import cKDTree

    tree = cKDTree(found / radius)
    kept = np.ones(len(found), bool)
    for a, b in sorted(tree.query_pairs(1.0)):
        if kept[a]:
            kept[b] = False
    return np.flatnonzero(kept)


@kernel
def _answer(soft, sigma, answer, first, last):
    """The largest of what was answered so far and the negative Laplacian at one scale."""
    nk, nj, ni = soft.shape
    for row in range(first, last):
        k, j = row // nj, row % nj
        for i in range(ni):
            here = soft[k, j, i]
            found = np.float32(0)
            if nk > 1:
                found += sigma[0] ** 2 * (2 * here - soft[max(k - 1, 0), j, i] - soft[min(k + 1, nk - 1), j, i])
            if nj > 1:
                found += sigma[1] ** 2 * (2 * here - soft[k, max(j - 1, 0), i] - soft[k, min(j + 1, nj - 1), i])
            if ni > 1:
                found += sigma[2] ** 2 * (2 * here - soft[k, j, max(i - 1, 0)] - soft[k, j, min(i + 1, ni - 1)])
            if found > answer[k, j, i]:
                answer[k, j, i] = found
