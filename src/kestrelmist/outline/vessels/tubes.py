"""How much every voxel looks like the middle of a tube.

By the second derivatives at several scales, of which the tube's two across are strong and alike, and that along it is
weak (Y. Sato et al., Medical Image Analysis 2, 1998; A. F. Frangi et al., MICCAI 1998).
"""

from __future__ import annotations

import numpy as np

from ...core.gaussian import smoothed
from ...core.halves import in_halves
from ...core.kernel import kernel


def tube_likeness(values: np.ndarray, sign: float, radii, spacing) -> np.ndarray:
    """From 0 to 1, float32 [k, j, i]: 1 where the image is most like a tube of one of the radii.

    Parameters
    ----------
    values : float32 array [k, j, i]
    sign : 1 or −1
        Whether tubes are brighter or darker than what is round them.
    radii : lengths
        In the unit of the spacing.
    spacing : three numbers along k, j, i
    """
    best = np.zeros(values.shape, np.float32)
    step = np.array(spacing, float)
    inverse = (1 / step).astype(np.float32)
    for radius in radii:
        sigma = np.where(np.array(values.shape) > 1, 0.75 * radius / step, 0.0)
        soft = smoothed(values, sigma.tolist())
        weight = np.float32(sign * (0.75 * radius) ** 2)
        _compare(soft, weight, inverse, best)
    most = float(best.max(initial=0.0))
    return best / np.float32(most) if most > 0 else best


def _compare(soft: np.ndarray, weight: np.float32, inverse: np.ndarray, best: np.ndarray) -> None:
    """Keep the answer of one scale where it is the best so far."""
    if soft.shape[0] == 1:
        in_halves(soft.shape[1], lambda a, b: _flat(soft, weight, inverse, best, a, b), soft.size)
    else:
        in_halves(soft.shape[0], lambda a, b: _solid(soft, weight, inverse, best, a, b), soft.size)


@kernel
def _flat(soft, weight, inverse, best, first, last):
    _, nj, ni = soft.shape
    for j in range(max(first, 1), min(last, nj - 1)):
        for i in range(1, ni - 1):
            here = soft[0, j, i]
            a = weight * (soft[0, j - 1, i] + soft[0, j + 1, i] - 2 * here) * inverse[1] ** 2
            c = weight * (soft[0, j, i - 1] + soft[0, j, i + 1] - 2 * here) * inverse[2] ** 2
            b = soft[0, j + 1, i + 1] - soft[0, j + 1, i - 1] - soft[0, j - 1, i + 1] + soft[0, j - 1, i - 1]
            b = weight * b * np.float32(0.25) * inverse[1] * inverse[2]
            middle, apart = (a + c) / 2, np.sqrt(((a - c) / 2) ** 2 + b * b)
            across, along = middle - apart, middle + apart
            if across < 0:
                found = -across - abs(along) * np.float32(0.5)
                if found > best[0, j, i]:
                    best[0, j, i] = found


@kernel
def _solid(soft, weight, inverse, best, first, last):
    nk, nj, ni = soft.shape
    for k in range(max(first, 1), min(last, nk - 1)):
        for j in range(1, nj - 1):
            for i in range(1, ni - 1):
                here = soft[k, j, i]
                a11 = weight * (soft[k - 1, j, i] + soft[k + 1, j, i] - 2 * here) * inverse[0] ** 2
                a22 = weight * (soft[k, j - 1, i] + soft[k, j + 1, i] - 2 * here) * inverse[1] ** 2
                a33 = weight * (soft[k, j, i - 1] + soft[k, j, i + 1] - 2 * here) * inverse[2] ** 2
                if a11 + a22 + a33 >= 0:
                    continue
                q = np.float32(0.25) * weight
                a12 = soft[k + 1, j + 1, i] - soft[k + 1, j - 1, i] - soft[k - 1, j + 1, i] + soft[k - 1, j - 1, i]
                a13 = soft[k + 1, j, i + 1] - soft[k + 1, j, i - 1] - soft[k - 1, j, i + 1] + soft[k - 1, j, i - 1]
                a23 = soft[k, j + 1, i + 1] - soft[k, j + 1, i - 1] - soft[k, j - 1, i + 1] + soft[k, j - 1, i - 1]
                a12 *= q * inverse[0] * inverse[1]
                a13 *= q * inverse[0] * inverse[2]
                a23 *= q * inverse[1] * inverse[2]
                mean = (np.float64(a11) + a22 + a33) / 3
                off = np.float64(a12) * a12 + np.float64(a13) * a13 + np.float64(a23) * a23
                p = np.sqrt(((a11 - mean) ** 2 + (a22 - mean) ** 2 + (a33 - mean) ** 2 + 2 * off) / 6)
                if p <= 0:
                    continue
                b11, b22, b33 = (a11 - mean) / p, (a22 - mean) / p, (a33 - mean) / p
                b12, b13, b23 = a12 / p, a13 / p, a23 / p
                half = (
                    b11 * (b22 * b33 - b23 * b23) - b12 * (b12 * b33 - b23 * b13) + b13 * (b12 * b23 - b22 * b13)
                ) / 2
                turn = np.arccos(min(max(half, -1.0), 1.0)) / 3
                high = mean + 2 * p * np.cos(turn)
                low = mean + 2 * p * np.cos(turn + 2 * np.pi / 3)
                middle = 3 * mean - high - low
                if middle < 0:  # both across fall off; the weaker of them counts, less what bends along
                    found = -middle - max(abs(high) * 0.5, 0.0)
                    if found > best[k, j, i]:
                        best[k, j, i] = found
