"""A volume seen through a displacement, and what pulls at that: where each voxel would have to look instead."""

from __future__ import annotations

import numpy as np

from ..core.cell import cell, within
from ..core.halves import in_halves
from ..core.kernel import kernel


def warped(volume: np.ndarray, shift: np.ndarray, out: np.ndarray) -> np.ndarray:
    """A volume [k, j, i] seen through a displacement (voxels); NaN where that leaves the grid."""
    in_halves(shift.shape[0], lambda a, b: _warped(volume, shift, out, a, b), volume.size)
    return out


def pulled(seen: np.ndarray, slope: np.ndarray, out: np.ndarray, sign: float) -> np.ndarray:
    """Add to `out` (voxels) where each voxel would have to look for the cost to fall, times `sign`.

    Parameters
    ----------
    seen : float32 array [k, j, i]
        The warped image.
    slope : float32 array [k, j, i]
        By how much the cost grows with each of its values; 0 where nothing is compared.
    """
    in_halves(out.shape[0], lambda a, b: _pulled(seen, slope, np.float32(sign), out, a, b), out.size)
    return out


def longest(field: np.ndarray) -> float:
    """The longest of a field of vectors [k, j, i, xyz]."""
    return float(np.sqrt(np.einsum("kjic,kjic->kji", field, field).max()))


@kernel(fastmath={"contract", "reassoc", "nsz", "arcp"})
def _warped(volume, shift, out, low, high):
    nk, nj, ni = volume.shape
    for k in range(low, high):
        for j in range(nj):
            for i in range(ni):
                x, y, z = i + shift[k, j, i, 0], j + shift[k, j, i, 1], k + shift[k, j, i, 2]
                if not within(x, y, z, ni, nj, nk):
                    out[k, j, i] = np.nan
                    continue
                (a, d, u), (b, e, v), (c, f, w) = cell(x, ni), cell(y, nj), cell(z, nk)
                x00 = volume[c, b, a] + u * (volume[c, b, d] - volume[c, b, a])
                x01 = volume[c, e, a] + u * (volume[c, e, d] - volume[c, e, a])
                x10 = volume[f, b, a] + u * (volume[f, b, d] - volume[f, b, a])
                x11 = volume[f, e, a] + u * (volume[f, e, d] - volume[f, e, a])
                y0, y1 = x00 + v * (x01 - x00), x10 + v * (x11 - x10)
                out[k, j, i] = y0 + w * (y1 - y0)


@kernel(fastmath={"contract", "reassoc", "nsz", "arcp"})
def _pulled(seen, slope, sign, out, low, high):
    nk, nj, ni = seen.shape
    for k in range(low, high):
        c, f = max(k - 1, 0), min(k + 1, nk - 1)
        for j in range(nj):
            b, e = max(j - 1, 0), min(j + 1, nj - 1)
            for i in range(ni):
                s = -sign * slope[k, j, i]
                if s == 0:
                    continue
                a, d = max(i - 1, 0), min(i + 1, ni - 1)
                x = (seen[k, j, d] - seen[k, j, a]) / max(d - a, 1)
                y = (seen[k, e, i] - seen[k, b, i]) / max(e - b, 1)
                z = (seen[f, j, i] - seen[c, j, i]) / max(f - c, 1)
                if not x + y + z == x + y + z:  # beside a place that has no value
                    continue
                out[k, j, i, 0] += s * x
                out[k, j, i, 1] += s * y
                out[k, j, i, 2] += s * z
