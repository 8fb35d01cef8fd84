"""How sure means of a trace are when noise goes together from place to place, which it nearly always does.

How far it goes together is not known; it is told by the trace itself, and only so well. So every way in which it might
go together is weighed by how likely it makes what was measured, as M. S. Handcock and M. L. Stein do (Technometrics 35,
1993) with the restricted likelihood of H. D. Patterson and R. Thompson (Biometrika 58, 1971), and what is stated covers
all of them. Means of blocks stand for the points, as what goes together over many of them is what counts.
"""

from __future__ import annotations

import math
import warnings
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

SHARES = 1 - np.array([1, 0.9, 0.7, 0.4, 0.15, 0.03, 1e-3, 1e-5])
"""Of the variance, what goes together; the rest is of every point alone, as of a camera."""
PRIOR = np.log(np.array([5.0, 1, 1, 1, 1, 1, 1, 1]))
"""Noise of points alone is the usual case."""
SHAPES = ("bell", "exponential")
SHORTEST, LONGEST, LENGTHS = 0.5, 0.33, 20
"""Over how far it may go together: from half a point to a third of what is seen, in so many steps."""
BLOCKS = 36
"""Parts that a trace is taken in."""
ACROSS, ALONG = 16, 16
"""Parts of the width, and of the piece round a place, that are compared."""
NEAREST, FARTHEST = 12, 48
"""Points on each side of a place that are looked at, at first and at most."""
ENOUGH, FEW = 8.0, 3.5
"""Times that what goes together has to fit in what is looked at; with fewer than the second, the trace is too short."""
MOSTLY = 0.85
"""Share of what lies round a place that has to be like it."""
FAR, MAD = 4.0, 1.4826
"""Standard deviations from which something stands out, told by the median."""
TELLING = 6
"""Lines side by side from which one that stands out is told."""
UNLIKELY = 1e-7
TOO_SHORT = "too short to tell how far noise goes together"


@dataclass(frozen=True)
class Sureness:
    """Standard uncertainties (n,) by every way in which noise may go together, how likely each is (n,), its degrees of
    freedom (n,), and how often what goes together fits in what was looked at."""

    standard: np.ndarray
    likely: np.ndarray
    degrees: np.ndarray
    times: float
    reach: float = 0.0
    """How far noise goes together, in the unit of places along."""

    @property
    def too_short(self) -> bool:
        """Whether what was looked at is too short to tell."""
        return self.times < FEW

    def expanded(self, share: float = 0.95) -> float:
        """The half-width that holds the true value with this probability, by Student's t of each weighed together."""
        from scipy.optimize import brentq
        from scipy.special import stdtr, stdtrit

        if not self.standard.max() > 0:
            return 0.0
        kept = (self.likely > UNLIKELY) & (self.standard > 0)
        standard, degrees = self.standard[kept], self.degrees[kept]
        likely = self.likely[kept] / self.likely[kept].sum()
        far = float((standard * stdtrit(degrees, 0.5 + share / 2)).max())
        return far * brentq(
            lambda u: float((likely * (2 * stdtr(degrees, far * u / standard) - 1)).sum()) - share, 0, 2
        )


def _alike(apart: np.ndarray, length: float, shape: str) -> np.ndarray:
    """How alike noise is at places so far apart, from 1 to 0."""
    return np.exp(-0.5 * (apart / length) ** 2) if shape == "bell" else np.exp(-np.abs(apart) / length)


def _reach(length: float, shape: str) -> float:
    """The width of a rectangle as large as the area under it."""
    return length * (math.sqrt(2 * math.pi) if shape == "bell" else 2.0)


def of_step(along: np.ndarray, values: np.ndarray, level: np.ndarray) -> tuple[float, float, Sureness]:
    """Height and slope of parallel straight lines through two levels by least squares, and how sure the height is.

    Parameters
    ----------
    along, values : array (n,)
    level : array (n,)
        0 or 1.
    """
    height, slope = np.linalg.lstsq(_lines(along, level), values, rcond=None)[0][[2, 1]]
    whole = along.size * float(np.median(np.diff(along)))
    along, values, level = _in_blocks(along, values, level)
    matrix = _lines(along, level)
    n, known = matrix.shape
    weights = np.linalg.pinv(matrix)[2]
    rest = np.linalg.qr(matrix, mode="complete")[0][:, known:]
    left = rest.T @ values
    if not float(left @ left) > 1e-24 * float(values @ values):
        return float(height), float(slope), Sureness(np.zeros(1), np.ones(1), np.ones(1), math.inf)
    apart = np.abs(along[:, None] - along)
    span, step = float(np.ptp(along)), float(np.median(np.diff(along)))
    logs, variances, reaches = [], [], []
    for shape in SHAPES:
        for length in np.geomspace(SHORTEST * step, LONGEST * span, LENGTHS):
            alike = _alike(apart, length, shape)
            power, turned = np.linalg.eigh(rest.T @ alike @ rest)
            expected = (1 - SHARES)[:, None] + SHARES[:, None] * np.maximum(power, 0)
            scale = ((turned.T @ left) ** 2 / expected).mean(1)
            logs.append(PRIOR - 0.5 * np.log(expected).sum(1) - 0.5 * (n - known) * np.log(scale))
            of_weights = (1 - SHARES) * float(weights @ weights) + SHARES * float(weights @ alike @ weights)
            variances.append(scale * of_weights)
            reaches.append(SHARES * _reach(length, shape))
    likely = _weighed(np.concatenate(logs))
    standard = np.sqrt(np.concatenate(variances))
    reach = max(float(likely @ np.concatenate(reaches)), step)
    shorter = 2 * whole * min(float(level.mean()), float(1 - level.mean()))  # no level is known better than that
    degrees = np.full(len(likely), float(n - known))
    return float(height), float(slope), Sureness(standard, likely, degrees, shorter / reach, reach)


def _lines(along: np.ndarray, level: np.ndarray) -> np.ndarray:
    return np.column_stack([np.ones(along.size), along - along.mean(), level])


def _in_blocks(along: np.ndarray, values: np.ndarray, level: np.ndarray) -> tuple[np.ndarray, ...]:
    """Means of blocks, none of which reaches across an edge."""
    size = math.ceil(along.size / BLOCKS)
    if size == 1:
        return along, values, level
    parts: list[np.ndarray] = []
    for piece in np.split(np.arange(along.size), np.flatnonzero(np.diff(level)) + 1):
        parts += np.array_split(piece, max(2, round(piece.size / size)))
    parts = [part for part in parts if part.size]
    return tuple(np.array([of[part].mean() for part in parts]) for of in (along, values, level))


def _weighed(logs: np.ndarray) -> np.ndarray:
    likely = np.exp(logs - logs.max())
    return likely / likely.sum()


def of_difference(lines: np.ndarray, first: int, second: int) -> Sureness | None:
    """How sure the difference is between the means across the width at two points along a section, by what lines side
    by side differ round them; noise is taken to go together across as it does along.

    Parameters
    ----------
    lines : array (n, lines)
        Lines side by side, as far apart as the points of each; NaN where there is no value.
    first, second : number
        Points along them.

    Returns
    -------
    Sureness or None
        None when too few lines have values there.
    """
    half, longest, found = NEAREST, min(2 * FARTHEST + 1, len(lines)), None
    while True:
        long = min(2 * half + 1, longest)
        pieces = [_round(lines, place, long) for place in (first, second)]
        if found is not None and min(np.isfinite(piece).mean() for piece in pieces) < MOSTLY:
            return found  # farther out lies something else, such as an edge across the line
        found = _of_pieces(pieces, abs(second - first))
        if found is None or found.times >= ENOUGH or long == longest:
            return found
        half *= 2


def _round(lines: np.ndarray, place: int, long: int) -> np.ndarray:
    """What lies round a place (long, lines), without what stands out, unless that is at the place itself."""
    start = min(max(place - long // 2, 0), len(lines) - long)
    piece = lines[start : start + long]
    if piece.shape[1] < TELLING:
        return piece
    away = piece - _middles(piece, 1)[:, None]
    away = away - _middles(away, 0)
    far = standing_out(away)
    return piece if far[place - start].any() else np.where(far, np.nan, piece)


def _middles(values: np.ndarray, axis: int) -> np.ndarray:
    """Medians; NaN where there is nothing."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", RuntimeWarning)
        return np.nanmedian(values, axis)


def standing_out(away: np.ndarray) -> np.ndarray:
    """Which distances from what is fitted (n, lines) are too large for noise, as of dust: more than some standard
    deviations, told by their median."""
    spread = MAD * float(np.nanmedian(np.abs(away)))
    if not spread > 0:
        return np.zeros(away.shape, bool)
    with np.errstate(invalid="ignore"):
        return np.abs(away) > FAR * spread


def _of_pieces(pieces: list[np.ndarray], apart: int) -> Sureness | None:
    """How sure a difference is, by what lies round both places (long, lines), so many points apart."""
    long = len(pieces[0])
    block = max(1, round(long / ALONG))
    kept = np.isfinite(pieces).mean(1).min(0) > 0.6
    wide = int(kept.sum())
    beside = max(1, math.ceil(wide / ACROSS))
    n, m = long // block, wide // beside
    if n < 3 or m < 2:
        return None
    blocks = [_blocks(piece[:, kept], n, block, m, beside) for piece in pieces]
    sizes = [float((piece**2).sum()) for piece in blocks]
    if not max(sizes) > 1e-24 * max(float(np.nansum(np.square(piece))) for piece in pieces):
        return Sureness(np.zeros(1), np.ones(1), np.ones(1), math.inf)
    degrees, least = (n - 1) * (m - 1), 1e-12 * max(sizes)
    logs, variances, free, reaches = [], [], [], []
    for shape in SHAPES:
        for length in np.geomspace(SHORTEST, LONGEST * long, LENGTHS):
            of_along, turn_along = _modes(n, block, shape, length)
            of_across, turn_across = _modes(m, beside, shape, length)
            alone = ((1 - SHARES) / (block * beside))[:, None, None]
            expected = alone + SHARES[:, None, None] * of_along[:, None] * of_across
            logs.append(PRIOR - np.log(expected).sum((1, 2)))
            scales = []
            for piece, size in zip(blocks, sizes):
                power = (turn_along.T @ piece @ turn_across) ** 2 + least / degrees
                logs[-1] = logs[-1] - 0.5 * degrees * np.log((power / expected).mean((1, 2)))
                scales.append(size / expected.sum((1, 2)))  # of all power: what is weak, but many, decides nothing here
            free.append(expected.sum((1, 2)) ** 2 / (expected**2).sum((1, 2)))
            together = SHARES * _of_mean(wide, shape, length)
            near = float(_alike(np.array(apart), length, shape))
            mean = (1 - SHARES) / wide + together
            both = 2 * np.sqrt(scales[0] * scales[1]) * together * near
            variances.append(np.maximum(mean * (scales[0] + scales[1]) - both, 0))
            reaches.append(SHARES * _reach(length, shape))
    log, freedom = np.concatenate(logs), np.concatenate(free)
    likely = _weighed(log * freedom[log.argmax()] / degrees)  # points that go together are not so many witnesses
    reach = max(float(likely @ np.concatenate(reaches)), 1.0)
    return Sureness(np.sqrt(np.concatenate(variances)), likely, freedom, long / reach, reach)


def _blocks(piece: np.ndarray, n: int, block: int, m: int, beside: int) -> np.ndarray:
    """Means of blocks (n, m) without what all lines have in common at a place, and what a line has along all of it;
    what is missing is taken for that, and what is left made as much larger."""
    piece = piece[: n * block, : m * beside]
    there = np.isfinite(piece)
    filled = np.where(there, piece, 0.0)
    common = filled.sum(1, keepdims=True) / np.maximum(there.sum(1, keepdims=True), 1)
    filled = np.where(there, filled - common, 0.0) / math.sqrt(there.mean())
    means = filled.reshape(n, block, m, beside).mean((1, 3))
    return means - means.mean(1, keepdims=True) - means.mean(0) + means.mean()


@lru_cache(512)
def _modes(n: int, block: int, shape: str, length: float) -> tuple[np.ndarray, np.ndarray]:
    """Of n means of blocks in a row without their mean: the powers (n - 1,) that noise is expected to have, and the
    patterns (n, n - 1) that have them."""
    lag = np.arange(1 - block, block)
    weights = (block - np.abs(lag)) / block**2
    by_lag = (weights * _alike(np.arange(n)[:, None] * block + lag, length, shape)).sum(1)
    alike = by_lag[np.abs(np.arange(n)[:, None] - np.arange(n))]
    rest = np.linalg.qr(np.ones((n, 1)), mode="complete")[0][:, 1:]
    power, turned = np.linalg.eigh(rest.T @ alike @ rest)
    return np.maximum(power, 0), rest @ turned


@lru_cache(512)
def _of_mean(count: int, shape: str, length: float) -> float:
    """The variance of a mean of so many neighbours, as a share of that of one."""
    lag = np.arange(1 - count, count)
    return float(((count - np.abs(lag)) * _alike(lag, length, shape)).sum()) / count**2
