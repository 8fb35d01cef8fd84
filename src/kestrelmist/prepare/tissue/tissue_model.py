"""Three tissues in the voxels of a mask: a mixture of pure voxels and of voxels that two tissues share, with the uneven
brightness fitted along.

Expectation and maximisation with a multiplicative field as in Y. Zhang et al., IEEE Trans. Med. Imaging 20, 2001;
shared voxels as in D. W. Shattuck et al., NeuroImage 13, 2001. In place of a random field of labels, which wipes out
sheets of one voxel, non-local means before it let voxels with alike surroundings speak for one another.
"""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np

from ...core.kernel import kernel
from ...core.progress import Progress
from .tissue_start import FEWEST, FLUID, GREY, WHITE, allowed, spread_of, start_of

STEPS = 6
"""Rounds; more of them let white matter take in grey that is a little brighter than the rest."""


@dataclass
class Mixture:
    """What was found: mean and standard deviation of every tissue in every contrast, (3, c), in units of the contrast's
    median; shares of the five kinds of voxels; the field of every contrast at the voxels, (n, c)."""

    means: np.ndarray
    spreads: np.ndarray
    shares: np.ndarray
    field: np.ndarray


class Box:
    """Voxels of a mask in the box that holds it, and smoothing among them.

    Parameters
    ----------
    inside : bool array [k, j, i]
    spacing : mm along i, j, k
    fwhm : mm
        Of the field.
    """

    def __init__(self, inside: np.ndarray, spacing, fwhm: float):
        self.inside, self.spacing = inside, spacing
        self.index = np.argwhere(inside)
        widths = [fwhm / 2.3548 / s if n > 1 else 0.0 for s, n in zip(spacing[::-1], inside.shape)]
        # a field this smooth is told as well by blocks of half a standard deviation
        self.step = np.array([max(1, int(w / 2)) for w in widths])
        self.widths = [w / s for w, s in zip(widths, self.step)]
        self.shape = tuple(int(n) for n in -(-np.array(inside.shape) // self.step))
        self.block = np.ravel_multi_index(tuple((self.index // self.step).T), self.shape)
        self.at = (self.index - (self.step - 1) / 2) / self.step

    def smoothed_ratio(self, above: np.ndarray, below: np.ndarray) -> np.ndarray:
        """Smoothed values over smoothed weights, at the voxels; both (n,)."""
        from scipy import ndimage

        size = int(np.prod(self.shape))
        soft = [
            ndimage.gaussian_filter(
                np.bincount(self.block, values, size).reshape(self.shape), self.widths, mode="constant", truncate=3
            )
            for values in (above, below)
        ]
        ratio = np.where(soft[1] > 1e-6 * soft[1].max(), soft[0] / np.maximum(soft[1], 1e-30), 0.0)
        return ndimage.map_coordinates(ratio, self.at.T, order=1, mode="nearest")


def fitted(values: np.ndarray, box: Box, fluid_bright: bool, progress: Progress) -> Mixture:
    """Fit the mixture.

    Parameters
    ----------
    values : float32 array (n, c)
        Of the mask's voxels in each contrast; the median of each is 1.
    box : Box
    fluid_bright : bool
        Whether fluid is the brightest in the first contrast (T2), and not white matter (T1).
    """
    count, contrasts = values.shape
    start = start_of(values[:, 0], box.inside, box.spacing, fluid_bright, progress.part(0, 0.6))
    field = np.ones((count, contrasts), np.float32)
    field[:, 0] = start.field
    means, spreads = np.ones((3, contrasts)), np.full((3, contrasts), 0.08)
    means[:, 0], spreads[:, 0] = start.means, start.spreads
    if contrasts > 1:
        spreads[:, 1:] = 1e3  # the first contrast alone says which tissue is which at first
    shares = start.shares
    for step in range(STEPS):
        progress.at(0.6 + 0.4 * step / STEPS, "Telling the tissues apart")
        even = values / field
        found = kinds_of(even, Mixture(means, spreads, shares, field))
        pure = found[:, [0, 2, 4]].astype(np.float64)
        for tissue in (GREY, FLUID, WHITE):
            weight = pure[:, tissue].sum()
            if weight < FEWEST * count:
                continue
            means[tissue] = pure[:, tissue] @ even / weight
            for c in range(contrasts):
                variance = float(pure[:, tissue] @ (even[:, c] - means[tissue, c]) ** 2 / weight)
                spreads[tissue, c] = spread_of(tissue, variance, means[:, c], spreads[:, c])
        if step == 0 and contrasts > 1:
            for tissue in range(3):  # one that had too few voxels is told by the mean of those that lean to it
                leaning = pure[:, tissue] + 1e-9
                means[tissue, 1:] = leaning @ even[:, 1:] / leaning.sum()
        shares = allowed(found.mean(0, dtype=np.float64))
        for c in range(contrasts):
            strength = (pure[:, GREY:] * means[GREY:, c] / spreads[GREY:, c] ** 2).sum(1)
            weight = (pure[:, GREY:] * means[GREY:, c] ** 2 / spreads[GREY:, c] ** 2).sum(1)
            ratio = box.smoothed_ratio(strength * values[:, c], weight)
            ratio[ratio <= 0] = 1.0
            field[:, c] = ratio / ratio.mean()
    return Mixture(means, spreads, shares, field)


def kinds_of(even: np.ndarray, mixture: Mixture) -> np.ndarray:
    """How likely each voxel is fluid, fluid and grey, grey, grey and white, white; float32 (n, 5)."""
    out = np.empty((len(even), 5), np.float32)
    ignored = np.empty((0, 3), np.float32)
    _in_halves(even, mixture, out, ignored)
    return out


def shares_of(even: np.ndarray, mixture: Mixture) -> np.ndarray:
    """Shares of fluid, grey and white in each voxel, float32 (n, 3): their expected values."""
    out, shares = np.empty((len(even), 5), np.float32), np.empty((len(even), 3), np.float32)
    _in_halves(even, mixture, out, shares)
    return shares


def _in_halves(even: np.ndarray, mixture: Mixture, out: np.ndarray, shares: np.ndarray) -> None:
    even, half = np.ascontiguousarray(even, np.float32), len(even) // 2
    given = mixture.means, mixture.spreads, mixture.shares
    with ThreadPoolExecutor(2) as pool:
        list(pool.map(lambda e: _posterior(even, *given, out, shares, *e), ((0, half), (half, len(even)))))


@kernel
def _density(y, mean, spread):
    total, scale = 0.0, 1.0
    for c in range(y.shape[0]):
        away = (y[c] - mean[c]) / spread[c]
        total += away * away
        scale *= spread[c]
    return np.exp(-0.5 * total) / scale


@kernel
def _posterior(even, means, spreads, weights, out, shares, first, last):
    contrasts = even.shape[1]
    mean, spread = np.empty(contrasts), np.empty(contrasts)
    parts = 8
    for n in range(first, last):
        y = even[n]
        leaning = np.zeros(2)  # expected share of the second tissue in a mixed voxel, times its likelihood
        total = 0.0
        for tissue in range(3):
            found = weights[2 * tissue] * _density(y, means[tissue], spreads[tissue])
            out[n, 2 * tissue] = found
            total += found
        for pair in range(2):
            likelihood, second = 0.0, 0.0
            for part in range(parts):
                a = (part + 0.5) / parts
                for c in range(contrasts):
                    mean[c] = (1.0 - a) * means[pair, c] + a * means[pair + 1, c]
                    spread[c] = (1.0 - a) * spreads[pair, c] + a * spreads[pair + 1, c]
                found = _density(y, mean, spread) / parts
                likelihood += found
                second += a * found
            found = weights[2 * pair + 1] * likelihood
            out[n, 2 * pair + 1] = found
            leaning[pair] = second / likelihood if likelihood > 0.0 else 0.5
            total += found
        if total > 0.0:
            for kind in range(5):
                out[n, kind] /= total
        else:  # far from everything: the nearest tissue takes it
            best, near = 0, 1e300
            for tissue in range(3):
                away = 0.0
                for c in range(contrasts):
                    away += ((y[c] - means[tissue, c]) / spreads[tissue, c]) ** 2
                if away < near:
                    best, near = tissue, away
            for kind in range(5):
                out[n, kind] = 1.0 if kind == 2 * best else 0.0
        if shares.shape[0] > 0:
            shares[n, 0] = out[n, 0] + out[n, 1] * (1.0 - leaning[0])
            shares[n, 1] = out[n, 2] + out[n, 1] * leaning[0] + out[n, 3] * (1.0 - leaning[1])
            shares[n, 2] = out[n, 4] + out[n, 3] * leaning[1]
