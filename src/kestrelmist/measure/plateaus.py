"""Step heights: two levels of a section fitted by parallel straight lines."""

from __future__ import annotations

import math
from dataclasses import dataclass, field

import numpy as np

from ..core.errors import Trouble
from .trace_noise import of_step, standing_out

SHORTEST = 0.04
"""Pieces shorter than this share of a section are dust, no plateaus."""
RESOLVED = 1e-6
"""Share of the largest height below which differences are rounding."""
ROUNDS = 4
"""How often dust is sought."""
TRIES, MANY = 400, 200
"""Lines that are tried for the first fit, and points that judge them."""
COVER = 1.96
"""Standard uncertainties within which the true value lies 95 times of 100, when they are well known."""
Range = tuple[float, float]


@dataclass(frozen=True)
class Step:
    """A step and how it was found.

    Parameters
    ----------
    height : values
        Of what lies at the far level above what lies at the near one: of a groove below 0, of a ridge above.
    noise : values
        Standard uncertainty by the noise of the plateaus, as far as it goes together along them.
    slope : values per unit of length
        Of both plateaus.
    edges : places along the section
    used, left_out : ranges along the section
    dust : ranges along the section
        What stands out of the plateaus, across all of the width.
    reach : length
        How far the noise of the plateaus goes together.
    too_short : bool
        Whether the plateaus are too short to tell how far noise goes together.
    """

    height: float
    noise: float
    slope: float
    edges: tuple[float, ...]
    used: list[Range] = field(default_factory=list)
    left_out: list[Range] = field(default_factory=list)
    dust: list[Range] = field(default_factory=list)
    reach: float = 0.0
    too_short: bool = False

    @property
    def counted(self) -> list[Range]:
        """What was used, without dust."""
        found = []
        for low, high in self.used:
            for start, end in self.dust:
                if start < high and end > low:
                    found.append((low, start))
                    low = end
            found.append((low, high))
        return [(low, high) for low, high in found if high > low]

    def expanded(self, calibration: float = 0.0) -> float:
        """The uncertainty within which the true height lies 95 times of 100; `calibration` is the relative standard
        uncertainty of the scale of heights."""
        return COVER * math.hypot(self.noise, calibration * self.height)


def step_in(along: np.ndarray, lines: np.ndarray, name: str, edge: float = 0.0) -> Step:
    """The step of a section with one edge or two.

    With two edges, as ISO 5436-1 (2000) has it for a groove of width W (type A1): the surface counts from W/3 to W on
    both sides, the bottom over its middle third. With one edge, both plateaus count but for what lies near it. Both
    levels are fitted by parallel straight lines, by least squares.

    Parameters
    ----------
    along : array (n,)
    lines : array (n, lines)
        Sections side by side.
    edge : length
        What is left out on each side of every edge; 0 for the standard's thirds, or for a tenth of the shorter plateau.

    Raises
    ------
    Trouble
        When there is no edge or more than two, or too little is left on a plateau.
    """
    values = _middles(lines)
    edges = edges_of(along, values, name)
    used, levels, out = _parts(along, edges, edge)
    picked, level = np.zeros(along.size, bool), np.zeros(along.size)
    for (low, high), which in zip(used, levels):
        inside = (along >= low) & (along <= high) & np.isfinite(values)
        if inside.sum() < 3:
            raise Trouble(f"Too little of a plateau of “{name}” is left", "draw the line longer, or leave out less")
        picked |= inside
        level[inside] = which
    along_used, level_used = along[picked], level[picked]
    points = _without_dust(along_used, lines[picked], level_used)
    values = _means(points)
    there = np.isfinite(values)
    if min(int(there[level_used == which].sum()) for which in (0, 1)) < 2:
        raise Trouble(f"Too little of a plateau of “{name}” is left", "draw the line longer, or leave out less")
    height, slope, sure = of_step(along_used[there], values[there], level_used[there])
    noise = sure.expanded() / COVER
    return Step(height, noise, slope, edges, used, out, _gaps(along_used, points), sure.reach, sure.too_short)


def edges_of(along: np.ndarray, values: np.ndarray, name: str) -> tuple[float, ...]:
    """Places where a section crosses from one level to the other, one or two.

    Levels are told apart by the threshold of N. Otsu (IEEE Trans. SMC 9, 1979), with the tilt that both have in common
    taken away; pieces that are too short for a plateau are passed over.
    """
    from skimage.filters import threshold_otsu

    there = np.isfinite(values)
    least = max(2, int(SHORTEST * along.size))
    if there.sum() < 12 or np.ptp(values[there]) == 0:
        raise Trouble(f"There is no step in “{name}”", "draw a line across one")
    filled = np.interp(along, along[there], values[there])
    flat = filled - _common_slope(along, filled) * (along - along[0])
    kept = np.ones(along.size, bool)
    while True:
        wide = float(np.ptp(flat[kept])) if kept.sum() >= 12 else 0.0
        if not wide > RESOLVED * float(np.abs(filled[kept]).max(initial=0)):  # nothing but rounding
            raise Trouble(f"There is no step in “{name}”", "draw a line across one")
        share = (flat - flat[kept].min()) / wide
        split = share > threshold_otsu(share[kept])
        fewer = split if split[kept].mean() < 0.5 else ~split
        if _longest_run(fewer & kept) >= least:
            break
        kept &= ~fewer  # dust that is taller than the step: the levels are those of the rest
    limit = float(np.median(flat[kept & split]) + np.median(flat[kept & ~split])) / 2  # half-way between both levels
    high = _long_runs(flat > limit, least)
    at = np.flatnonzero(high[1:] != high[:-1])
    if not at.size:
        raise Trouble(f"There is no step in “{name}”", "draw a line across one")
    if at.size > 2:
        raise Trouble(
            f"“{name}” crosses {at.size} edges, and a step height is that of one edge or of a groove",
            "draw a shorter line across one or two",
        )
    found = []
    for n in at:
        rise = flat[n + 1] - flat[n]
        share = (limit - flat[n]) / rise if rise else 0.5
        found.append(float(along[n] + min(max(share, 0.0), 1.0) * (along[n + 1] - along[n])))
    return tuple(found)


def _common_slope(along: np.ndarray, values: np.ndarray) -> float:
    """The slope of most of a section: the median of slopes over an eighth of it."""
    lag = max(1, along.size // 8)
    return float(np.median((values[lag:] - values[:-lag]) / (along[lag:] - along[:-lag])))


def _longest_run(there: np.ndarray) -> int:
    ends = np.flatnonzero(np.diff(np.concatenate([[False], there, [False]]).astype(np.int8)))
    return int((ends[1::2] - ends[::2]).max(initial=0))


def _long_runs(high: np.ndarray, least: int) -> np.ndarray:
    """Pieces shorter than `least` become part of what is round them, the shortest first."""
    high = high.copy()
    while True:
        ends = np.flatnonzero(np.diff(high.astype(np.int8))) + 1
        bounds = np.concatenate([[0], ends, [high.size]])
        lengths = np.diff(bounds)
        if len(lengths) < 2 or lengths.min() >= least:
            return high
        n = int(lengths.argmin())
        high[bounds[n] : bounds[n + 1]] = ~high[bounds[n]]


def _parts(along: np.ndarray, edges: tuple[float, ...], edge: float) -> tuple[list[Range], list[float], list[Range]]:
    """Ranges that count, the level of each (0 or 1), and ranges near edges that do not."""
    first, last = float(along[0]), float(along[-1])
    if len(edges) == 1:
        away = edge or 0.1 * min(edges[0] - first, last - edges[0])
        used = [(first, edges[0] - away), (edges[0] + away, last)]
        return used, [0.0, 1.0], [(edges[0] - away, edges[0] + away)]
    a, b = edges
    wide = b - a
    away = edge or wide / 3
    before, after = (max(first, a - wide), a - away), (b + away, min(last, b + wide))
    middle = (a + away, b - away) if edge else (a + wide / 3, b - wide / 3)
    out = [(a - away, middle[0]), (middle[1], b + away)]
    return [before, middle, after], [0.0, 1.0, 0.0], out


def _without_dust(along: np.ndarray, points: np.ndarray, level: np.ndarray) -> np.ndarray:
    """Points (n, lines) without those that stand out of the plateaus: further from the fit than some standard
    deviations, told by the median of their distances. NaN where there is none.

    The first fit is that of which half of the points lie nearest, so that dust at one end tilts nothing (least median
    of squares: P. J. Rousseeuw, J. Am. Stat. Assoc. 79, 1984)."""
    middle = _middles(points)
    height, slope = _nearest_to_half(along, middle, level)
    kept = points
    for _ in range(ROUNDS):
        away = points - (height * level + slope * along)[:, None]
        away -= np.nanmedian(away)
        far = standing_out(away)
        was, kept = kept, np.where(far, np.nan, points)
        if not np.isfinite(kept).any() or np.array_equal(was, kept, equal_nan=True):
            break
        height, slope = _fit(along, _middles(kept), level)
    return kept


def _nearest_to_half(along: np.ndarray, values: np.ndarray, level: np.ndarray) -> tuple[float, float]:
    """Height and slope of the parallel lines whose median distance from the values is least, of many through three."""
    there = np.flatnonzero(np.isfinite(values))
    rng = np.random.default_rng(0)
    low, high = (there[level[there] == which] for which in (0, 1))
    if min(low.size, high.size) < 2:
        return _fit(along, values, level)
    some = there[:: math.ceil(there.size / MANY)]
    found = _fit(along, values, level)
    least = math.inf
    for two, one in ((low, high), (high, low)):
        first, second, third = (rng.choice(of, TRIES) for of in (two, two, one))
        apart = along[second] - along[first]
        ok = np.abs(apart) > 0.2 * np.ptp(along[two])
        slope = (values[second] - values[first])[ok] / apart[ok]
        first, third = first[ok], third[ok]
        height = (values[third] - values[first] - slope * (along[third] - along[first])) * (1 if two is low else -1)
        away = values[some] - height[:, None] * level[some] - slope[:, None] * along[some]
        away = np.abs(away - np.median(away, axis=1)[:, None])
        of_each = np.median(away, axis=1)
        if of_each.size and of_each.min() < least:
            best = int(of_each.argmin())
            least, found = float(of_each[best]), (float(height[best]), float(slope[best]))
    return found


def _gaps(along: np.ndarray, points: np.ndarray) -> list[Range]:
    """Ranges of a plateau in which no line has a point left."""
    step = float(np.median(np.diff(along))) if along.size > 1 else 0.0
    empty = ~np.isfinite(points).any(1)
    bounds = np.flatnonzero(np.diff(np.concatenate([[False], empty, [False]]).astype(np.int8)))
    runs = []
    for first, last in zip(bounds[::2], bounds[1::2] - 1):
        splits = np.flatnonzero(np.diff(along[first : last + 1]) > 1.5 * step)  # from one plateau to the next
        for piece in np.split(along[first : last + 1], splits + 1):
            runs.append((float(piece[0] - step / 2), float(piece[-1] + step / 2)))
    return runs


def _middles(points: np.ndarray) -> np.ndarray:
    """The median across the width (n,), which dust hardly moves; NaN where there is nothing."""
    there = np.isfinite(points).any(1)
    found = np.full(len(points), np.nan)
    found[there] = np.nanmedian(points[there], axis=1)
    return found


def _means(points: np.ndarray) -> np.ndarray:
    """The mean across the width (n,); NaN where there is nothing."""
    there = np.isfinite(points)
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(there, points, 0).sum(1) / there.sum(1)


def _fit(along: np.ndarray, values: np.ndarray, level: np.ndarray) -> tuple[float, float]:
    """Height and slope of parallel lines through two levels; values that are NaN do not count."""
    there = np.isfinite(values)
    along, values, level = along[there], values[there], level[there]
    matrix = np.column_stack([np.ones(along.size), along - along.mean() if along.size else along, level])
    if along.size < 4 or np.linalg.matrix_rank(matrix) < 3:
        return math.nan, math.nan
    solved = np.linalg.lstsq(matrix, values, rcond=None)[0]
    return float(solved[2]), float(solved[1])
