"""The cubic B-spline through a volume: its coefficients, and its weights between voxels."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor

import numpy as np

from .kernel import kernel

POLE = float(np.sqrt(3.0) - 2.0)
TERMS = 16
"""Of the sum that a filter begins with; what is left out is below the last digit of float32."""


def spline_coefficients(values: np.ndarray) -> np.ndarray:
    """Coefficients of the cubic B-spline through values [k, j, i], float32, mirrored at the ends (M. Unser, A. Aldroubi
    and M. Eden, IEEE Trans. Signal Process. 41, 1993)."""
    out = np.array(values, np.float32, order="C")
    nk, nj, ni = out.shape
    with ThreadPoolExecutor(2) as pool:
        if ni > 1:
            list(pool.map(lambda b: _filter_i(out, *b), _halves(nk)))
        if nj > 1:
            list(pool.map(lambda b: _filter_j(out, *b), _halves(nk)))
        if nk > 1:
            list(pool.map(lambda b: _filter_k(out, *b), _halves(nj)))
    return out


def spline_along(values: np.ndarray) -> np.ndarray:
    """Coefficients of the cubic B-spline along the last axis of [k, j, i] alone."""
    out = np.array(values, np.float32, order="C")
    if out.shape[2] > 1:
        with ThreadPoolExecutor(2) as pool:
            list(pool.map(lambda b: _filter_i(out, *b), _halves(out.shape[0])))
    return out


def _halves(count: int) -> list[tuple[int, int]]:
    return [(0, count // 2), (count // 2, count)]


@kernel(inline="always")
def spline_weights(t):
    """The four weights of the cubic B-spline at a share `t` between two voxels."""
    s = np.float32(1.0) - t
    sixth = np.float32(1.0 / 6.0)
    w0 = s * s * s * sixth
    w3 = t * t * t * sixth
    w1 = np.float32(2.0 / 3.0) - np.float32(0.5) * t * t * (np.float32(2.0) - t)
    w2 = np.float32(1.0) - w0 - w1 - w3
    return w0, w1, w2, w3


@kernel(inline="always")
def _folded(n, size):
    """An index in the endless row that mirroring at both ends makes."""
    n = n % (2 * size - 2)
    return n if n < size else 2 * size - 2 - n


@kernel
def _filter_i(data, first, last):
    ni = data.shape[2]
    for k in range(first, last):
        for j in range(data.shape[1]):
            row = data[k, j]
            total, z = np.float64(row[0]), POLE
            for n in range(1, TERMS):
                total += z * row[_folded(n, ni)]
                z *= POLE
            row[0] = total * 6.0
            for n in range(1, ni):
                row[n] = row[n] * 6.0 + POLE * row[n - 1]
            row[ni - 1] = POLE / (POLE * POLE - 1.0) * (row[ni - 1] + POLE * row[ni - 2])
            for n in range(ni - 2, -1, -1):
                row[n] = POLE * (row[n + 1] - row[n])


@kernel(inline="always")
def _filter_plane(plane):
    """Along the first axis of a plane, all of its rows at once."""
    count, ni = plane.shape
    pole, ends = np.float32(POLE), np.float32(POLE / (POLE * POLE - 1.0))
    start = np.empty(ni, np.float32)
    for i in range(ni):
        start[i] = plane[0, i]
    z = POLE
    for n in range(1, TERMS):
        m = _folded(n, count)
        for i in range(ni):
            start[i] += np.float32(z) * plane[m, i]
        z *= POLE
    for i in range(ni):
        plane[0, i] = start[i] * np.float32(6.0)
    for n in range(1, count):
        for i in range(ni):
            plane[n, i] = plane[n, i] * np.float32(6.0) + pole * plane[n - 1, i]
    for i in range(ni):
        plane[count - 1, i] = ends * (plane[count - 1, i] + pole * plane[count - 2, i])
    for n in range(count - 2, -1, -1):
        for i in range(ni):
            plane[n, i] = pole * (plane[n + 1, i] - plane[n, i])


@kernel
def _filter_j(data, first, last):
    for k in range(first, last):
        _filter_plane(data[k])


@kernel
def _filter_k(data, first, last):
    for j in range(first, last):
        _filter_plane(data[:, j])
