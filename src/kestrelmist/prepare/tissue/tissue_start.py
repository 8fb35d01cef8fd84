"""Where a mixture of tissues starts: how much of a brain is white is not known, and differs from species to species, so
the histogram is fitted from many starts, with and without a field found before, and what is likeliest is taken.

Shared voxels as in D. W. Shattuck et al., NeuroImage 13, 2001; the field as in N. J. Tustison et al., IEEE Trans. Med.
Imaging 29, 2010.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from itertools import product

import numpy as np

from ...core.progress import Progress
from ..intensity.evenness import found_field

FLUID, GREY, WHITE = range(3)
OF_FLUID, OF_WHITE = (0.03, 0.12, 0.25), (0.12, 0.3, 0.5, 0.65)
"""Shares of fluid and of white matter to start from."""
BINS, ROUNDS = 400, 120
PARTS = (np.arange(8) + 0.5) / 8
"""Shares of the second tissue in shared voxels."""
THINNEST = 0.03
"""Least standard deviation of a tissue, as a share of the grey one's brightness."""
WIDER = 1.5
"""Most standard deviation of another tissue, in those of grey matter: the noise is the same, and a tissue that spreads
further takes in voxels that are shared."""
FEWEST = 1e-4
"""Share of the voxels below which a tissue keeps its mean."""
RARE = 0.1
"""Share of all voxels that fluid and grey matter may share where hardly any is fluid alone; each of fluid alone allows
two more. Else fluid that spreads a little is taken for voxels shared with something darker that is nowhere."""
COARSE = 28
"""Voxels along the longest side on which the first field is found; the mixture makes it finer."""
DARK = 0.02
"""Values below this share of the median tell nothing of the field."""


@dataclass
class Start:
    """Means and standard deviations (3,) of the first contrast, shares of the five kinds of voxels, its field (n,)."""

    means: np.ndarray
    spreads: np.ndarray
    shares: np.ndarray
    field: np.ndarray


def start_of(values: np.ndarray, inside: np.ndarray, spacing, fluid_bright: bool, progress: Progress) -> Start:
    """Where to start.

    Parameters
    ----------
    values : float32 array (n,)
        Of the mask's voxels in the first contrast; their median is 1.
    inside : bool array [k, j, i]
    spacing : mm along i, j, k
    fluid_bright : bool
        Whether fluid is the brightest, and not white matter.
    """
    fields = [np.ones(len(values), np.float32)]
    whole = np.zeros(inside.shape, np.float32)
    whole[inside] = values
    try:
        field = found_field(whole, whole > DARK, spacing, 0.0, progress, COARSE)[inside]
        fields.append(field / field.mean(dtype=np.float64).astype(np.float32))
    except RuntimeError:  # there is none to be found
        progress.at(0.5)
    best, most = None, -math.inf
    for field in fields:
        even = values / field
        low, high = (float(v) for v in np.percentile(even, (0.1, 99.9)))
        counts, edges = np.histogram(even, BINS, (low, high))
        # a value is as much less dense as the field is larger
        scale = float(np.log(field).mean(dtype=np.float64))
        for n, (fluid, white) in enumerate(product(OF_FLUID, OF_WHITE)):
            progress.at(0.7 + 0.3 * n / (len(OF_FLUID) * len(OF_WHITE)), "Telling how much is white")
            found = _fitted(counts, edges, even, fluid, white, fluid_bright)
            if found is not None and found[0] - scale > most:
                likelihood, means, spreads, shares = found
                most, best = likelihood - scale, Start(means, spreads, shares, field)
    return best or _plain_start(values, fields[0], fluid_bright)


def _plain_start(values: np.ndarray, field: np.ndarray, fluid_bright: bool) -> Start:
    """By the ends of the values alone, where too few differ for a histogram."""
    low, high = np.percentile(values, (1.0, 96.0))
    means = [high, 1.0, (1.0 + low) / 2] if fluid_bright else [min(low, 0.5), 1.0, max(high, 1.1)]
    return Start(np.array(means), np.full(3, 0.08), np.array([0.02, 0.05, 0.73, 0.10, 0.10]), field)


def _fitted(counts, edges, values, fluid: float, white: float, fluid_bright: bool):
    """Log-likelihood of one voxel, means, spreads and shares by expectation and maximisation from one start; None when
    its tissues are one."""
    middles = (edges[1:] + edges[:-1]) / 2
    grey = 1 - fluid - white
    at = np.array([fluid / 2, fluid + grey / 2, 1 - white / 2])
    means = np.quantile(values, 1 - at if fluid_bright else at)
    apart = np.abs(np.diff(means)).min()
    if not apart > 0 or not counts.any():
        return None
    spreads = np.full(3, 0.5 * apart)
    shares = np.array([fluid * 0.6, fluid * 0.6, grey * 0.8, 0.1, white * 0.9])
    shares /= shares.sum()
    likelihood = -math.inf
    for _ in range(ROUNDS):
        dense = np.empty((5, len(middles)))
        for n in range(3):
            dense[2 * n] = _bell(middles, means[n], spreads[n])
        for n in range(2):
            of_both = [(1 - PARTS) * both[n] + PARTS * both[n + 1] for both in (means, spreads)]
            dense[2 * n + 1] = _bell(middles[:, None], *of_both).mean(1)
        total = shares @ dense + 1e-300
        likelihood = float(counts @ np.log(total)) / counts.sum()
        found = shares[:, None] * dense / total * counts
        if not found.sum() > 0:  # the tissues have become so narrow that they meet no value
            return None
        shares = allowed(found.sum(1) / counts.sum())
        for n in (GREY, FLUID, WHITE):
            pure = found[2 * n]
            if pure.sum() < FEWEST * counts.sum():
                continue
            means[n] = pure @ middles / pure.sum()
            spreads[n] = spread_of(n, float(pure @ (middles - means[n]) ** 2 / pure.sum()), means, spreads)
    order = np.diff(means) * (-1 if fluid_bright else 1)
    return (likelihood, means, spreads, shares) if (order > 0).all() else None


def _bell(at, mean, spread):
    return np.exp(-0.5 * ((at - mean) / spread) ** 2) / (spread * math.sqrt(2 * math.pi))


def spread_of(tissue: int, variance: float, means: np.ndarray, spreads: np.ndarray) -> float:
    """A tissue's standard deviation within what is plausible beside grey matter's."""
    most = math.inf if tissue == GREY else WIDER * spreads[GREY]
    return min(max(math.sqrt(variance), THINNEST * abs(means[GREY])), most)


def allowed(shares: np.ndarray) -> np.ndarray:
    """Shares of the five kinds with no more voxels of fluid and grey together than fluid alone makes plausible."""
    kept = shares.copy()
    kept[1] = min(kept[1], RARE + 2 * kept[0])
    return kept / kept.sum()
