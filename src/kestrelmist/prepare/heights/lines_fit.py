"""Least squares along the lines of a height map, and over the whole of it, from the same sums."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np

from ...core.kernel import kernel
from ...core.progress import Progress

BANDS = 2
CONDITION = 1e9
"""Sums whose solution is less sure than this tell nothing: the points left crowd in one place."""


@dataclass
class Left:
    """What counts in a fit: heights (lines, points) float32 from `low` to `high` of their line (lines,), where nothing
    is painted over them (uint8, of the same shape, or of no size). Limits are finite: what is not, never counts."""

    heights: np.ndarray
    low: np.ndarray
    high: np.ndarray
    painted: np.ndarray

    @property
    def used(self) -> np.ndarray:
        """Which points count, (lines, points)."""
        there = (self.heights >= self.low[:, None]) & (self.heights <= self.high[:, None])
        return there & (self.painted == 0) if self.painted.size else there

    def without(self, more: np.ndarray) -> Left:
        """The same, with more points painted over."""
        return Left(
            self.heights, self.low, self.high, (more | (self.painted > 0 if self.painted.size else more)).view(np.uint8)
        )


def anything_left(left: Left) -> bool:
    """Whether a single point counts."""
    step = max(1, left.heights.shape[1] // 64)
    thinned = Left(left.heights[:, ::step], left.low, left.high, left.painted[:, ::step])
    return bool(thinned.used.any() or left.used.any())


def sums(left: Left, order: int, progress: Progress) -> tuple[np.ndarray, np.ndarray]:
    """Sums over each line of x^k, (lines, 2 order + 1), and of height × x^k, (lines, order + 1), with x from −1 to 1
    along the line."""
    lines = len(left.heights)
    powers, products = np.zeros((lines, 2 * order + 1)), np.zeros((lines, order + 1))
    painted = left.painted if left.painted.size else np.zeros((0, 0), np.uint8)

    def work(band: tuple[int, int]) -> None:
        _sums(left.heights, left.low, left.high, painted, order, powers, products, *band, progress.stop)

    _in_bands(lines, work)
    progress.at(progress.fraction)
    return powers, products


def fitted_lines(powers: np.ndarray, products: np.ndarray) -> np.ndarray:
    """Coefficients of x^0 … of each line, (lines, order + 1); NaN for a line whose points do not settle them."""
    order = products.shape[1] - 1
    index = np.add.outer(np.arange(order + 1), np.arange(order + 1))
    matrix = powers[:, index]
    found = np.full(products.shape, np.nan)
    sure = powers[:, 0] > order
    if sure.any():
        with np.errstate(all="ignore"):
            good = np.linalg.cond(matrix[sure] / powers[sure, 0, None, None]) < CONDITION
        sure[sure] = good
    if sure.any():
        found[sure] = np.linalg.solve(matrix[sure], products[sure][..., None])[..., 0]
    return found


def fitted_surface(powers: np.ndarray, products: np.ndarray, order: int) -> np.ndarray | None:
    """Coefficients of x^a y^b with a + b up to the order, as coefficients of x^0 … of each line, (lines, order + 1);
    None when the points do not settle them."""
    terms = [(a, b) for a in range(order + 1) for b in range(order + 1 - a)]
    y = np.linspace(-1, 1, len(powers))
    along = y[:, None] ** np.arange(2 * order + 1)
    moments = powers.T @ along
    matrix = np.array([[moments[a + c, b + d] for c, d in terms] for a, b in terms])
    right = products.T @ along
    count = moments[0, 0]
    if count <= len(terms) or not np.linalg.cond(matrix / count) < CONDITION:
        return None
    solved = np.linalg.solve(matrix, np.array([right[a, b] for a, b in terms]))
    found = np.zeros((len(powers), order + 1))
    for (a, b), value in zip(terms, solved):
        found[:, a] += value * along[:, b]
    return found


def less(heights: np.ndarray, coefficients: np.ndarray) -> np.ndarray:
    """Heights (lines, points) less the polynomial of each line, float32."""
    out = np.empty(heights.shape, np.float32)
    _in_bands(len(heights), lambda band: _less(heights, coefficients, out, *band))
    return out


def of_lines(coefficients: np.ndarray, points: int) -> np.ndarray:
    """The polynomials themselves, (lines, points) float32."""
    return less(np.zeros((len(coefficients), points), np.float32), -coefficients)


def squares_left(left: Left, flat: np.ndarray) -> tuple[float, int]:
    """Sum of the squares of level heights (lines, points) that counted in the fit, and how many there are."""
    found = np.zeros((len(flat), 2))
    painted = left.painted if left.painted.size else np.zeros((0, 0), np.uint8)
    _in_bands(len(flat), lambda band: _squares(flat, left.heights, left.low, left.high, painted, found, *band))
    return float(found[:, 0].sum()), int(found[:, 1].sum())


def _in_bands(lines: int, work) -> None:
    edges = [lines * n // BANDS for n in range(BANDS + 1)]
    bands = [(a, b) for a, b in zip(edges, edges[1:]) if b > a]
    with ThreadPoolExecutor(BANDS) as pool:
        list(pool.map(work, bands))


@kernel(fastmath={"reassoc", "contract"})
def _sums(heights, low, high, painted, order, powers, products, first, last, stop):
    points = heights.shape[1]
    step = 2.0 / (points - 1) if points > 1 else 0.0
    hidden = painted.shape[0] > 0
    for line in range(first, last):
        if stop[0]:
            return
        s0, s1, s2, s3, s4, s5, s6 = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
        t0, t1, t2, t3 = 0.0, 0.0, 0.0, 0.0
        lowest, highest = low[line], high[line]
        for n in range(points):  # without a branch, so that several points are taken at once
            z = float(heights[line, n])
            there = (z >= lowest) & (z <= highest)
            if hidden:
                there &= painted[line, n] == 0
            w = 1.0 if there else 0.0
            z = z if there else 0.0
            x = -1.0 + step * n
            wx = w * x
            wxx = wx * x
            wxxx = wxx * x
            s0 += w
            s1 += wx
            s2 += wxx
            s3 += wxxx
            s4 += wxxx * x
            s5 += wxxx * x * x
            s6 += wxxx * x * x * x
            t0 += z
            t1 += z * x
            t2 += z * x * x
            t3 += z * x * x * x
        found = (s0, s1, s2, s3, s4, s5, s6)
        for k in range(2 * order + 1):
            powers[line, k] = found[k]
        above = (t0, t1, t2, t3)
        for k in range(order + 1):
            products[line, k] = above[k]


@kernel(fastmath={"reassoc", "contract"})
def _less(heights, coefficients, out, first, last):
    points = heights.shape[1]
    step = 2.0 / (points - 1) if points > 1 else 0.0
    order = coefficients.shape[1] - 1
    for line in range(first, last):
        c0 = coefficients[line, 0]
        c1 = coefficients[line, 1] if order > 0 else 0.0
        c2 = coefficients[line, 2] if order > 1 else 0.0
        c3 = coefficients[line, 3] if order > 2 else 0.0
        for n in range(points):
            x = -1.0 + step * n
            out[line, n] = heights[line, n] - (c0 + x * (c1 + x * (c2 + x * c3)))


@kernel(fastmath={"reassoc", "contract"})
def _squares(flat, heights, low, high, painted, found, first, last):
    hidden = painted.shape[0] > 0
    for line in range(first, last):
        total = 0.0
        count = 0.0
        for n in range(flat.shape[1]):
            z = heights[line, n]
            there = (z >= low[line]) & (z <= high[line])
            if hidden:
                there &= painted[line, n] == 0
            value = float(flat[line, n]) if there else 0.0
            total += value * value
            count += 1.0 if there else 0.0
        found[line, 0] = total
        found[line, 1] = count
