"""What is left of a fit to pixels: noise that goes together from pixel to pixel tells less than noise that does not."""

from __future__ import annotations

import numpy as np

LEAST, FURTHEST = 0.1, 6
"""Correlation below which residuals have nothing in common, and pixels apart up to which they are held together."""


def gone_together(left: np.ndarray, near: np.ndarray) -> float:
    """By what the variance of a fit grows as residuals of neighbouring pixels go together: of each axis one and twice
    the sum of their correlations.

    Parameters
    ----------
    left : array (rows, columns)
        Residuals.
    near : array of bool (rows, columns)
        Which pixels were fitted.
    """
    whole, grown = float((left[near] ** 2).mean()), 1.0
    if not whole > 0:
        return 1.0
    for axis in (0, 1):
        total = 1.0
        for apart in range(1, FURTHEST + 1):
            first, second = (np.swapaxes(one, 0, axis)[:-apart] for one in (left, near))
            later, after = (np.swapaxes(one, 0, axis)[apart:] for one in (left, near))
            both = second & after
            if np.count_nonzero(both) < 8:
                break
            rho = float((first * later)[both].mean()) / whole
            if rho < LEAST:
                break
            total += 2 * min(rho, 1.0)
        grown *= total
    return grown
