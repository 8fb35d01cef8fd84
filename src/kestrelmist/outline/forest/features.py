"""What a voxel is told by: brightness, edges and texture round it, each at several scales.

They are the basic features of scikit-image (`skimage.feature.multiscale_basic_features`), value for value: at every
scale the image smoothed by a Gaussian, the length of its gradient (Sobel), and the eigenvalues of its second
derivatives, the largest first.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...core.gaussian import TRUNCATE, smoothed
from ...core.halves import in_halves
from ...core.kernel import kernel
from ...core.quantity import pretty_unit, suited_unit


def feature_names(channels: Sequence[str], scales: Sequence[float], unit: str, flat: bool, position: bool) -> list[str]:
    """What each feature is, in the order of `features_of`."""
    name, factor = suited_unit(max(scales, default=0.0), unit)
    textures = ("texture along", "texture across") if flat else ("texture 1", "texture 2", "texture 3")
    found = [
        f"{channel + ', ' if channel else ''}{kind}, {scale * factor:.3g} {pretty_unit(name)}"
        for channel in channels
        for scale in scales
        for kind in ("brightness", "edges", *textures)
    ]
    return found + (["x", "y", "z"] if position else [])


def reach_of(sigmas: Sequence[Sequence[float]]) -> tuple[int, int, int]:
    """How many voxels round one tell of it, along k, j, i."""
    k, j, i = (
        max(int(TRUNCATE * s[axis] + 0.5) for s in sigmas) + (2 if any(s[axis] for s in sigmas) else 0)
        for axis in range(3)
    )
    return k, j, i


def features_of(channels: Sequence[np.ndarray], sigmas: Sequence[Sequence[float]], flat: bool) -> np.ndarray:
    """Features of every voxel, float32 [k, j, i, feature].

    Parameters
    ----------
    channels : arrays [k, j, i]
    sigmas : voxels along k, j, i, for every scale
    flat : bool
        Whether every slice is looked at by itself (its sigma along k is 0).
    """
    each = 4 if flat else 5
    shape = channels[0].shape
    found = np.empty((*shape, each * len(sigmas) * len(channels)), np.float32)
    at = 0
    for values in channels:
        plain = np.ascontiguousarray(values, np.float32)
        for sigma in sigmas:
            soft = smoothed(plain, sigma)
            _put(soft, found, at)
            if flat:
                in_halves(shape[0] * shape[1], lambda a, b: _flat(soft, found, at, a, b), soft.size)  # noqa: B023
            else:
                in_halves(shape[0], lambda a, b: _solid(soft, found, at, a, b), soft.size)  # noqa: B023
            at += each
    return found


def _put(soft: np.ndarray, found: np.ndarray, at: int) -> None:
    found[..., at] = soft


@kernel
def _mirrored(n, size):
    """Index of what stands beyond an edge, as in a mirror at it."""
    if n < 0:
        return min(-1 - n, size - 1)
    if n >= size:
        return max(2 * size - 1 - n, 0)
    return n


@kernel
def _slope(low, here, high, n, size):
    """First derivative: between both neighbours, at an edge to the one there is."""
    if size == 1:
        return np.float32(0)
    if n == 0:
        return high - here
    if n == size - 1:
        return here - low
    return (high - low) * np.float32(0.5)


@kernel
def _first(soft, k, j, i, axis):
    """First derivative at a voxel along an axis."""
    nk, nj, ni = soft.shape
    here = soft[k, j, i]
    if axis == 0:
        return _slope(soft[max(k - 1, 0), j, i], here, soft[min(k + 1, nk - 1), j, i], k, nk)
    if axis == 1:
        return _slope(soft[k, max(j - 1, 0), i], here, soft[k, min(j + 1, nj - 1), i], j, nj)
    return _slope(soft[k, j, max(i - 1, 0)], here, soft[k, j, min(i + 1, ni - 1)], i, ni)


@kernel
def _second(soft, k, j, i, one, other):
    """Derivative along `other` of the derivative along `one`."""
    nk, nj, ni = soft.shape
    if other == 0:
        if nk == 1:
            return np.float32(0)
        low, high = _first(soft, max(k - 1, 0), j, i, one), _first(soft, min(k + 1, nk - 1), j, i, one)
        return _slope(low, _first(soft, k, j, i, one), high, k, nk)
    if other == 1:
        if nj == 1:
            return np.float32(0)
        low, high = _first(soft, k, max(j - 1, 0), i, one), _first(soft, k, min(j + 1, nj - 1), i, one)
        return _slope(low, _first(soft, k, j, i, one), high, j, nj)
    if ni == 1:
        return np.float32(0)
    low, high = _first(soft, k, j, max(i - 1, 0), one), _first(soft, k, j, min(i + 1, ni - 1), one)
    return _slope(low, _first(soft, k, j, i, one), high, i, ni)


@kernel
def _flat(soft, found, at, first, last):
    """Edges and texture within slices; `first` and `last` count rows of all slices."""
    nk, nj, ni = soft.shape
    for row in range(first, last):
        k, j = row // nj, row % nj
        up, down = _mirrored(j - 1, nj), _mirrored(j + 1, nj)
        for i in range(ni):
            left, right = _mirrored(i - 1, ni), _mirrored(i + 1, ni)
            across = (
                soft[k, up, right]
                + 2 * soft[k, j, right]
                + soft[k, down, right]
                - soft[k, up, left]
                - 2 * soft[k, j, left]
                - soft[k, down, left]
            ) / 4
            along = (
                soft[k, down, left]
                + 2 * soft[k, down, i]
                + soft[k, down, right]
                - soft[k, up, left]
                - 2 * soft[k, up, i]
                - soft[k, up, right]
            ) / 4
            found[k, j, i, at + 1] = np.sqrt((across * across + along * along) / 2)
            a, b, c = _second(soft, k, j, i, 1, 1), _second(soft, k, j, i, 1, 2), _second(soft, k, j, i, 2, 2)
            middle, apart = (a + c) / 2, np.sqrt(((a - c) / 2) ** 2 + b * b)
            found[k, j, i, at + 2] = middle + apart
            found[k, j, i, at + 3] = middle - apart


@kernel
def _solid(soft, found, at, first, last):
    """Edges and texture in three dimensions."""
    nk, nj, ni = soft.shape
    smooth = np.array([0.25, 0.5, 0.25], np.float32)
    for k in range(first, last):
        for j in range(nj):
            for i in range(ni):
                gk = gj = gi = np.float32(0)
                for a in range(3):
                    for b in range(3):
                        weight = smooth[a] * smooth[b]
                        ja, jb = _mirrored(j + a - 1, nj), _mirrored(j + b - 1, nj)
                        ka, ib = _mirrored(k + a - 1, nk), _mirrored(i + b - 1, ni)
                        gk += weight * (soft[_mirrored(k + 1, nk), ja, ib] - soft[_mirrored(k - 1, nk), ja, ib])
                        gj += weight * (soft[ka, _mirrored(j + 1, nj), ib] - soft[ka, _mirrored(j - 1, nj), ib])
                        gi += weight * (soft[ka, jb, _mirrored(i + 1, ni)] - soft[ka, jb, _mirrored(i - 1, ni)])
                found[k, j, i, at + 1] = np.sqrt((gk * gk + gj * gj + gi * gi) / 3)
                a11, a22, a33 = _second(soft, k, j, i, 0, 0), _second(soft, k, j, i, 1, 1), _second(soft, k, j, i, 2, 2)
                a12, a13, a23 = _second(soft, k, j, i, 0, 1), _second(soft, k, j, i, 0, 2), _second(soft, k, j, i, 1, 2)
                off = np.float64(a12) * a12 + np.float64(a13) * a13 + np.float64(a23) * a23
                q = (np.float64(a11) + a22 + a33) / 3
                p = np.sqrt(((a11 - q) ** 2 + (a22 - q) ** 2 + (a33 - q) ** 2 + 2 * off) / 6)
                if p <= 0:
                    for n in range(3):
                        found[k, j, i, at + 2 + n] = q
                    continue
                b11, b22, b33 = (a11 - q) / p, (a22 - q) / p, (a33 - q) / p
                b12, b13, b23 = a12 / p, a13 / p, a23 / p
                half = (
                    b11 * (b22 * b33 - b23 * b23) - b12 * (b12 * b33 - b23 * b13) + b13 * (b12 * b23 - b22 * b13)
                ) / 2
                turn = np.arccos(min(max(half, -1.0), 1.0)) / 3
                high = q + 2 * p * np.cos(turn)
                low = q + 2 * p * np.cos(turn + 2 * np.pi / 3)
                found[k, j, i, at + 2] = high
                found[k, j, i, at + 3] = 3 * q - high - low
                found[k, j, i, at + 4] = low
