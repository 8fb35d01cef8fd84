"""Ways to level a height map: polynomials along lines, one surface, a picked plane, differences of lines."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ...core.errors import Trouble
from ...core.image import Image
from ...core.progress import Progress
from ...core.quantity import pretty_unit, suited_unit
from .left_out import medians
from .lines_fit import Left, fitted_lines, fitted_surface, less, of_lines, sums

ROUNDS = 10
PART = 0.55
"""Share of the points that a robust fit goes by at first."""
SHOULDER = 90
"""Share of a line, as 1 / SHOULDER, that is left out on both sides of what stands out."""
TINY = 1e-6
"""Share of the largest distance that is none: rounding."""
SPREAD = 3.0
"""Standard deviations beyond which a point stands out."""
MAD = 1.4826
LAG = 8
"""Share of a line, as 1 / LAG, over which heights are compared for the slope that a robust fit starts from."""
JUMP = 6.0
"""Standard deviations that make a difference between two lines a jump."""
TREND = 15
"""Lines over which the usual difference between two is told."""
NEAR = 2
"""Points to each side of a picked one that count with it."""


@dataclass(frozen=True)
class Levelling:
    """A polynomial of each line, (lines, order + 1), how many lines have that of their neighbours, and what a robust
    fit has left out, bool (lines, points)."""

    coefficients: np.ndarray
    filled: int = 0
    out: np.ndarray | None = None

    def level(self, heights: np.ndarray) -> np.ndarray:
        return less(heights, self.coefficients)

    def background(self, shape: tuple[int, int]) -> np.ndarray:
        return of_lines(self.coefficients, shape[1])

    @property
    def means(self) -> np.ndarray:
        """The mean of each line's polynomial."""
        even = self.coefficients[:, ::2]
        return even @ (1 / np.arange(1, 2 * even.shape[1], 2))

    @property
    def slope(self) -> float:
        """Rise along the lines, from one end to the other, of the straight line nearest to the mean polynomial."""
        odd = self.coefficients[:, 1::2].mean(0)
        return float(2 * odd @ (3 / np.arange(3, 3 + 2 * odd.size, 2)))

    @property
    def bow(self) -> float:
        """How much higher both ends of the mean polynomial lie than its middle."""
        return float(self.coefficients[:, 2].mean()) if self.coefficients.shape[1] > 2 else 0.0


def lines(left: Left, order: int, robust: bool, name: str, progress: Progress) -> Levelling:
    """A polynomial of each line by itself."""

    def fit(of: Left) -> np.ndarray:
        return fitted_lines(*sums(of, order, progress))

    start = _first_lines(left, order) if robust else None
    found, out = _trimmed(left, fit, start, progress, by_line=True) if start is not None else (fit(left), None)
    missing = ~np.isfinite(found[:, 0])
    if 2 * missing.sum() > len(found):
        raise Trouble(
            f"On {missing.sum()} of {len(found)} lines of “{name}” too few points are left for order {order}",
            "leave out less, choose a lower order, or fit a surface",
        )
    return Levelling(_from_neighbours(found, missing), int(missing.sum()), out)


def surface(left: Left, order: int, robust: bool, name: str, progress: Progress) -> Levelling:
    """One polynomial of x and y."""

    def fit(of: Left) -> np.ndarray:
        found = fitted_surface(*sums(of, order, progress), order)
        if found is None:
            raise Trouble(
                f"Too few points of “{name}” are left for a surface of order {order}",
                "leave out less, or choose a lower order",
            )
        return found

    start = _first_plane(left, order) if robust else None
    found, out = _trimmed(left, fit, start, progress, by_line=False) if start is not None else (fit(left), None)
    return Levelling(found, 0, out)


def picked_plane(image: Image, points: tuple[float, ...] | None) -> Levelling:
    """The plane through three places (mm), x and y of each."""
    if points is None:
        raise Trouble("A plane through points needs three of them", "give x and y of each, in mm")
    picked = np.array(points, float).reshape(3, 2)
    heights = image.kji[0]
    rows, columns = heights.shape
    at, z = [], []
    for x, y in picked:
        voxel = image.space.to_voxel((x, y, float(image.space.affine[2, 3])))[:2]
        i, j = (int(round(v)) for v in voxel)
        if not (0 <= i < columns and 0 <= j < rows):
            raise Trouble(f"The point {place(x, y, image)} lies outside “{image.name}”", "pick points on the map")
        near = heights[max(j - NEAR, 0) : j + NEAR + 1, max(i - NEAR, 0) : i + NEAR + 1]
        near = near[np.isfinite(near)]
        if not near.size:
            raise Trouble(f"There is no height at {place(x, y, image)} in “{image.name}”", "pick a point that has one")
        at.append(((2 * i / (columns - 1) - 1), (2 * j / (rows - 1) - 1), 1.0))
        z.append(float(np.median(near)))
    matrix = np.array(at)
    if abs(np.linalg.det(matrix)) < 1e-6:
        raise Trouble("The three points lie on one line", "pick them further apart")
    a, b, c = np.linalg.solve(matrix, np.array(z))
    y = np.linspace(-1, 1, rows)
    return Levelling(np.column_stack([c + b * y, np.full(rows, a)]))


def place(x: float, y: float, image: Image) -> str:
    """A place on a map in the unit that suits it."""
    unit, factor = suited_unit(max(abs(x), abs(y)), image.space.unit)
    return f"{x * factor:.4g}, {y * factor:.4g} {pretty_unit(unit)}"


def differences(left: Left, name: str) -> Levelling:
    """Every line shifted by the median of its differences to the one before; the median of all that counts is zero."""
    shift = np.cumsum(np.nan_to_num(_steps_between(left, name)))
    shift = np.concatenate([[0.0], shift])
    flat = left.heights - shift[:, None].astype(np.float32)
    return Levelling((shift + float(np.median(flat[left.used])))[:, None])


def steps(left: Left, name: str) -> Levelling:
    """Only the jumps: differences to the line before that stand out of what is usual there."""
    from scipy import ndimage

    between = np.nan_to_num(_steps_between(left, name))
    usual = ndimage.median_filter(between, min(TREND, 2 * (len(between) // 2) - 1) if len(between) > 2 else 1)
    away = between - usual
    spread = MAD * float(np.median(np.abs(away)))
    jumps = np.where(np.abs(away) > JUMP * spread, away, 0.0)
    shift = np.concatenate([[0.0], np.cumsum(jumps)])
    return Levelling((shift - np.median(shift))[:, None])


def _steps_between(left: Left, name: str) -> np.ndarray:
    """The median of the differences of each line to the one before, where both count, (lines − 1,)."""
    used = left.used
    apart = np.where(used[1:] & used[:-1], left.heights[1:] - left.heights[:-1], np.float32(np.nan))
    found = medians(apart)
    if 2 * np.isnan(found).sum() > len(found):
        raise Trouble(f"Too little of “{name}” is left to compare its lines", "leave out less")
    return found


def _trimmed(left: Left, fit, start: np.ndarray, progress: Progress, by_line: bool) -> tuple[np.ndarray, np.ndarray]:
    """The fit without what stands out of it, from a first one (lines, order + 1), and what that is, bool (lines,
    points).

    First to the nearer half of the points, again and again (least trimmed squares, by the steps of P. J. Rousseeuw and
    K. Van Driessen, Data Min. Knowl. Discov. 12, 2006), then to all that lie within some standard deviations.
    """
    from scipy import ndimage

    used, found = left.used, start
    out = np.zeros(left.heights.shape, bool)
    shoulder = max(1, left.heights.shape[1] // SHOULDER)
    for n in range(2 * ROUNDS):
        progress.at(n / (2 * ROUNDS), "Fitting")
        away = np.abs(less(left.heights, np.nan_to_num(found)))
        if n < ROUNDS:
            limit = _nearer(np.where(used, away, np.float32(np.nan)), by_line)
        else:
            limit = SPREAD * MAD * _middle(np.where(used & ~out, away, np.float32(np.nan)), by_line)
        with np.errstate(invalid="ignore"):
            now = used & (away > np.maximum(limit, TINY * np.nanmax(away)))
        if n >= ROUNDS:  # the shoulders of what stands out too: they lie too near to be told, and pull all the same
            now = used & ndimage.binary_dilation(now, np.ones((1, 2 * shoulder + 1), bool))
        if n not in (0, ROUNDS) and np.array_equal(now, out):
            if n > ROUNDS:
                break
            continue
        out, found = now, fit(left.without(now))
    return found, out


def _middle(away: np.ndarray, by_line: bool) -> np.ndarray:
    return medians(away)[:, None] if by_line else np.full((1, 1), np.nanmedian(away))


def _nearer(away: np.ndarray, by_line: bool) -> np.ndarray:
    """The distance within which the nearer part of the points lies."""
    if not by_line:
        return np.full((1, 1), np.nanquantile(away, PART))
    found = np.full((len(away), 1), np.nan)
    for n, line in enumerate(away):
        there = line[np.isfinite(line)]
        if there.size:
            nth = int(PART * (there.size - 1))
            found[n] = np.partition(there, nth)[nth]
    return found


def _first_lines(left: Left, order: int) -> np.ndarray:
    """A slope and a shift of each line by medians."""
    heights = np.where(left.used, left.heights, np.float32(np.nan))
    found = np.zeros((len(heights), order + 1))
    x = np.linspace(-1, 1, heights.shape[1])
    if order:
        lag = max(1, heights.shape[1] // LAG)
        found[:, 1] = np.nan_to_num(medians(heights[:, lag:] - heights[:, :-lag])) / (x[lag] - x[0])
    found[:, 0] = np.nan_to_num(medians(heights - (found[:, 1:2] * x if order else 0)))
    return found


def _first_plane(left: Left, order: int) -> np.ndarray:
    """A plane by medians of differences along both axes."""
    heights = np.where(left.used, left.heights, np.float32(np.nan))
    rows, columns = heights.shape
    found = np.zeros((rows, order + 1))
    x, y = np.linspace(-1, 1, columns), np.linspace(-1, 1, rows)
    slope_x = slope_y = 0.0
    if order:
        lag_x, lag_y = max(1, columns // LAG), max(1, rows // LAG)
        slope_x = float(np.nan_to_num(np.nanmedian(heights[:, lag_x:] - heights[:, :-lag_x]))) / (x[lag_x] - x[0])
        slope_y = float(np.nan_to_num(np.nanmedian(heights[lag_y:] - heights[:-lag_y]))) / (y[lag_y] - y[0])
        found[:, 1] = slope_x
    found[:, 0] = slope_y * y
    found[:, 0] += float(np.nanmedian(heights - slope_x * x[None, :] - slope_y * y[:, None]))
    return found


def _from_neighbours(found: np.ndarray, missing: np.ndarray) -> np.ndarray:
    """Lines without a fit of their own have one between those of the lines beside them."""
    if missing.any():
        at = np.arange(len(found))
        for k in range(found.shape[1]):
            found[missing, k] = np.interp(at[missing], at[~missing], found[~missing, k])
    return found
