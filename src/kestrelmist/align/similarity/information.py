"""Mutual information: for images of any two contrasts."""

from __future__ import annotations

import numpy as np

from ...core.halves import in_halves
from ...core.kernel import kernel
from ..similar import Seen, Similarity, register

BINS = 32
EDGE = 2
"""Bins beyond the values at either end, into which the spline reaches."""


class Information:
    """Mutual information of the joint histogram: whole bins of the fixed image, cubic splines of the moving one
    (P. Viola and W. M. Wells, 1997; D. Mattes et al., 2003); normalised as C. Studholme et al. have it (1999)."""

    def __init__(self, seen: Seen, normalised: bool = False):
        low, high = (float(v) for v in np.percentile(seen.values, (0.2, 99.8)))
        step = (high - low) / BINS if high > low else 1.0
        self.bin = np.clip((seen.values - low) / step, 0, BINS - 1).astype(np.uint8)
        self.low, top = seen.limits
        self.step = (top - self.low) / (BINS - 2 * EDGE - 1) if top > self.low else 1.0
        self.normalised = normalised

    def __call__(self, found: np.ndarray, inside: np.ndarray) -> tuple[float, np.ndarray]:
        low, step = np.float32(self.low), np.float32(1.0 / self.step)
        counts = np.zeros((2, BINS, BINS))
        given = self.bin, found, inside, low, step
        in_halves(len(found), lambda first, last: _counted(*given, counts[int(first > 0)], first, last))
        joint = counts.sum(0)
        whole = float(joint.sum())
        slope = np.zeros_like(found)
        if whole <= 0:
            return 0.0, slope
        cost, grows = self._cost(joint / whole)
        grows = (grows / whole).astype(np.float32)
        in_halves(len(found), lambda first, last: _sloped(*given, grows, slope, first, last))
        return cost, slope

    def _cost(self, p: np.ndarray) -> tuple[float, np.ndarray]:
        """The cost of a joint distribution, and how it grows with each of its cells."""
        of_fixed, of_moving = p.sum(1), p.sum(0)
        log_joint, log_moving, log_fixed = _log(p), _log(of_moving), _log(of_fixed)
        alone = -float((of_moving * log_moving).sum()) - float((of_fixed * log_fixed).sum())
        both = -float((p * log_joint).sum())
        if not self.normalised:
            return both - alone, log_moving[None, :] - log_joint
        ratio = alone / both if both > 0 else 1.0
        return -ratio, (log_moving[None, :] - ratio * log_joint) / max(both, 1e-30)


def _log(p: np.ndarray) -> np.ndarray:
    return np.log(np.maximum(p, 1e-12))


@kernel(fastmath=True)
def _counted(bins, found, inside, low, step, counts, first, last):
    top = np.float32(counts.shape[1] - 3.001)
    for n in range(first, last):
        if inside[n] == 0:
            continue
        at = min(max((found[n] - low) * step + np.float32(2.0), np.float32(1.0)), top)
        lower = int(at)
        share = at - lower
        rest = np.float32(1.0) - share
        row, sixth = counts[bins[n]], inside[n] / 6.0
        row[lower - 1] += sixth * rest * rest * rest
        row[lower] += sixth * (4.0 - 6.0 * share * share + 3.0 * share * share * share)
        row[lower + 1] += sixth * (4.0 - 6.0 * rest * rest + 3.0 * rest * rest * rest)
        row[lower + 2] += sixth * share * share * share


@kernel(fastmath=True)
def _sloped(bins, found, inside, low, step, grows, slope, first, last):
    top = np.float32(grows.shape[1] - 3.001)
    for n in range(first, last):
        if inside[n] == 0:
            continue
        at = (found[n] - low) * step + np.float32(2.0)
        if at <= 1.0 or at >= top:
            continue
        lower = int(at)
        share = at - lower
        rest = np.float32(1.0) - share
        row = grows[bins[n]]
        slope[n] = (
            inside[n]
            * step
            * (
                -np.float32(0.5) * rest * rest * row[lower - 1]
                + (np.float32(1.5) * share * share - np.float32(2.0) * share) * row[lower]
                - (np.float32(1.5) * rest * rest - np.float32(2.0) * rest) * row[lower + 1]
                + np.float32(0.5) * share * share * row[lower + 2]
            )
        )


register(
    Similarity(
        "information",
        "Mutual information",
        Information,
    )
)
register(
    Similarity(
        "normalised-information",
        "Normalised mutual information",
        lambda seen: Information(seen, normalised=True),
    )
)
