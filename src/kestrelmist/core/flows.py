"""Velocities and displacements on a grid, float32 [k, j, i, xyz] in voxels: composed, exponentiated, smoothed."""

from __future__ import annotations

import numpy as np

from .cell import cell
from .halves import in_halves
from .kernel import kernel

STEP = 0.4
"""Voxels that the smallest step of an exponential is at most long."""


def exponential(velocity: np.ndarray, step: float = STEP) -> np.ndarray:
    """The displacement that a velocity leads to in unit time, by scaling and squaring (V. Arsigny, O. Commowick,
    X. Pennec, N. Ayache, MICCAI 2006).

    Parameters
    ----------
    step : voxels
        That the smallest step is at most long: shorter ones make the ways there and back fit one another better.
    """
    longest = float(np.sqrt(np.einsum("kjic,kjic->kji", velocity, velocity).max()))
    halvings = max(0, int(np.ceil(np.log2(max(longest, 1e-30) / step))))
    shift = velocity * np.float32(0.5**halvings)
    other = np.empty_like(shift)
    for _ in range(halvings):
        composed(shift, shift, other)
        shift, other = other, shift
    return shift


def composed(first: np.ndarray, then: np.ndarray, out: np.ndarray) -> np.ndarray:
    """The displacement of going by one and then by another; what lies beyond the grid moves like its edge."""
    in_halves(first.shape[0], lambda a, b: _composed(first, then, out, a, b), first.size)
    return out


def smoothed(field: np.ndarray, sigma: float) -> np.ndarray:
    """A field after a Gaussian (standard deviation in voxels), with the edge carried on."""
    if not sigma > 0:
        return field
    reach = max(1, int(np.ceil(3 * sigma)))
    weights = np.exp(-0.5 * (np.arange(-reach, reach + 1) / sigma) ** 2)
    weights = (weights / weights.sum()).astype(np.float32)
    out, between = np.empty_like(field), np.empty_like(field)
    for axis, (here, there) in enumerate(((field, out), (out, between), (between, out))):
        if field.shape[axis] == 1:
            there[...] = here
            continue
        in_halves(field.shape[0], lambda a, b: _along(here, weights, axis, there, a, b), field.size)  # noqa: B023
    return out


def folding(shift: np.ndarray) -> np.ndarray:
    """The Jacobian determinant of a displacement at every voxel, float32 [k, j, i]; below 0 where it folds."""
    out = np.empty(shift.shape[:3], np.float32)
    in_halves(shift.shape[0], lambda a, b: _determinant(shift, out, a, b), shift.size)
    return out


@kernel(fastmath={"contract", "reassoc", "nsz", "arcp"})
def _composed(first, then, out, low, high):
    nk, nj, ni = first.shape[0], first.shape[1], first.shape[2]
    for k in range(low, high):
        for j in range(nj):
            for i in range(ni):
                dx, dy, dz = first[k, j, i, 0], first[k, j, i, 1], first[k, j, i, 2]
                (a, d, u), (b, e, v), (c, f, w) = cell(i + dx, ni), cell(j + dy, nj), cell(k + dz, nk)
                for n in range(3):
                    x00 = then[c, b, a, n] + u * (then[c, b, d, n] - then[c, b, a, n])
                    x01 = then[c, e, a, n] + u * (then[c, e, d, n] - then[c, e, a, n])
                    x10 = then[f, b, a, n] + u * (then[f, b, d, n] - then[f, b, a, n])
                    x11 = then[f, e, a, n] + u * (then[f, e, d, n] - then[f, e, a, n])
                    y0, y1 = x00 + v * (x01 - x00), x10 + v * (x11 - x10)
                    out[k, j, i, n] = first[k, j, i, n] + y0 + w * (y1 - y0)


@kernel(fastmath={"contract", "reassoc", "nsz", "arcp"})
def _along(field, weights, axis, out, low, high):
    nk, nj, ni = field.shape[0], field.shape[1], field.shape[2]
    reach = len(weights) // 2
    row = np.empty((nj, ni, 3), np.float32)
    line = np.empty((ni + 2 * reach, 3), np.float32)
    for k in range(low, high):
        if axis == 2:
            for j in range(nj):
                for n in range(ni + 2 * reach):
                    at = min(max(n - reach, 0), ni - 1)
                    line[n, 0], line[n, 1], line[n, 2] = field[k, j, at, 0], field[k, j, at, 1], field[k, j, at, 2]
                for i in range(ni):
                    s0, s1, s2 = np.float32(0), np.float32(0), np.float32(0)
                    for m in range(2 * reach + 1):
                        g = weights[m]
                        s0 += g * line[i + m, 0]
                        s1 += g * line[i + m, 1]
                        s2 += g * line[i + m, 2]
                    out[k, j, i, 0], out[k, j, i, 1], out[k, j, i, 2] = s0, s1, s2
            continue
        row[:] = 0
        if axis == 0:
            for m in range(2 * reach + 1):
                g, source = weights[m], field[min(max(k + m - reach, 0), nk - 1)]
                for j in range(nj):
                    for i in range(ni):
                        for n in range(3):
                            row[j, i, n] += g * source[j, i, n]
        else:
            for j in range(nj):
                for m in range(2 * reach + 1):
                    g, source = weights[m], field[k, min(max(j + m - reach, 0), nj - 1)]
                    for i in range(ni):
                        for n in range(3):
                            row[j, i, n] += g * source[i, n]
        out[k] = row


@kernel(fastmath={"contract", "reassoc", "nsz", "arcp"})
def _determinant(shift, out, low, high):
    nk, nj, ni = shift.shape[0], shift.shape[1], shift.shape[2]
    for k in range(low, high):
        c, f = max(k - 1, 0), min(k + 1, nk - 1)
        for j in range(nj):
            b, e = max(j - 1, 0), min(j + 1, nj - 1)
            for i in range(ni):
                a, d = max(i - 1, 0), min(i + 1, ni - 1)
                across, along, up = max(d - a, 1), max(e - b, 1), max(f - c, 1)
                xx = (shift[k, j, d, 0] - shift[k, j, a, 0]) / across + 1
                yx = (shift[k, j, d, 1] - shift[k, j, a, 1]) / across
                zx = (shift[k, j, d, 2] - shift[k, j, a, 2]) / across
                xy = (shift[k, e, i, 0] - shift[k, b, i, 0]) / along
                yy = (shift[k, e, i, 1] - shift[k, b, i, 1]) / along + 1
                zy = (shift[k, e, i, 2] - shift[k, b, i, 2]) / along
                xz = (shift[f, j, i, 0] - shift[c, j, i, 0]) / up
                yz = (shift[f, j, i, 1] - shift[c, j, i, 1]) / up
                zz = (shift[f, j, i, 2] - shift[c, j, i, 2]) / up + 1
                out[k, j, i] = xx * (yy * zz - yz * zy) - xy * (yx * zz - yz * zx) + xz * (yx * zy - yy * zx)
