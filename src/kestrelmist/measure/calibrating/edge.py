"""Edges near a place, to a part of a pixel.

Across an edge values run as a step that is blurred by a Gaussian; its place, slope, width and height are fitted to the
pixels themselves by least squares, with the covariance that the noise of the residuals gives them (the model is that
of R. Machuca and K. L. Phillips, IEEE Trans. Pattern Anal. Mach. Intell. 5, 1983).
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from .plane import PixelPlane
from .residuals import gone_together

REACH = 8.0
"""Pixels along the line in which an edge is looked for, on both sides of an end."""
BAND = 5.0
"""Pixels beside the line that are looked at, on both sides of it."""
STEP, SMOOTH = 0.25, 0.8
"""Of the profile that edges are looked for in, pixels."""
CLEAR, STRONG = 5.0, 0.35
"""How many standard deviations of noise an edge is high at least, and what share of the steepest one."""
UNSURE = 0.5
"""Pixels from which on an edge is none."""
TELLS = 15.0
"""How much more of the variance than the noise an edge tells at least, for each number that is fitted (F)."""
NARROW, WIDE = 8.0, 6.0
"""Pixels up to which a bar is fitted as one, both its sides; and how far from an edge values belong to it."""
LEAST = 0.01
"""Pixels: what a fitted edge is unsure by at least, as no lens makes quite such a step."""
BY_HAND = 0.5
"""Pixels: standard uncertainty of an end that was placed by eye."""


@dataclass(frozen=True)
class Edge:
    """An edge that was found.

    Parameters
    ----------
    place : array (2,)
        Where the line meets it, columns and rows.
    normal : array (2,)
        Direction of length 1 across it, along the line.
    sure, sure_turn : number
        Standard uncertainties of its place along the line (pixels) and of its direction (radians).
    rises : bool
        Whether values grow along the line.
    moved : number
        Pixels from where it was looked for, along the line.
    middle, sure_middle : number
        Of an edge of a narrow bar: how far along the line from it the middle of the bar lies, and the standard
        uncertainty of where that is. Where blur is as wide as the bar, its middle is much surer than its sides. NaN of
        others.
    """

    place: np.ndarray
    normal: np.ndarray
    sure: float
    sure_turn: float
    rises: bool
    moved: float
    middle: float = math.nan
    sure_middle: float = math.nan


def edges_near(plane: PixelPlane, place, way, reach: float = REACH, band: float = BAND) -> list[Edge]:
    """Clear edges that a line through a place meets within reach, the nearest first.

    Parameters
    ----------
    place, way : (2,)
        Columns and rows; direction of the line, of length 1.
    reach, band : pixels
        Along the line, and beside it.
    """
    place, way = np.asarray(place, float), np.asarray(way, float)
    beside = np.array((-way[1], way[0]))
    # an edge at the end of the reach needs its own surroundings
    far = reach + 6
    corners = place + np.array([a * far * way + b * (band + 1) * beside for a in (-1, 1) for b in (-1, 1)])
    values, u0, v0 = plane.values(np.floor(corners.min(0)) - 1, np.ceil(corners.max(0)) + 2)
    if values.size == 0:
        return []
    v, u = np.indices(values.shape)
    away = np.stack((u + u0 - place[0], v + v0 - place[1]), -1)
    along, across = away @ way, away @ beside
    there = (np.abs(across) <= band) & (np.abs(along) <= far) & np.isfinite(values)
    if np.count_nonzero(there) < 20:
        return []
    t, s, z = along[there], across[there], values[there]
    found = [_fitted(t, s, z, one, there) for one in _steps(t, z, reach)]
    made: list[Edge] = []
    for one in sorted((f for f in found if f is not None), key=lambda f: abs(f[0])):
        at, slope, sure, sure_slope, rises, middle, sure_middle = one
        if abs(at) <= reach and not any(abs(at - other.moved) < 0.5 for other in made):
            normal = way - slope * beside
            turn = sure_slope / (1 + slope * slope)
            turned = normal / np.linalg.norm(normal)
            made.append(Edge(place + at * way, turned, sure, turn, rises, at, middle - at, sure_middle))
    return made


class Step(NamedTuple):
    """A place where a profile is steep, between which places it is looked at, whether it rises, and where the other
    side of a narrow bar lies."""

    at: float
    low: float
    high: float
    rises: bool
    other: float | None


def _steps(t: np.ndarray, z: np.ndarray, reach: float) -> list[Step]:
    """Where a profile is steep."""
    from scipy.ndimage import gaussian_filter1d

    places = np.arange(t.min(), t.max() + STEP, STEP)
    bins = np.clip(np.rint((t - places[0]) / STEP).astype(int), 0, len(places) - 1)
    count = np.bincount(bins, minlength=len(places))
    total = np.bincount(bins, z, len(places))
    filled = count > 0
    profile = np.interp(places, places[filled], total[filled] / count[filled])
    rise = gaussian_filter1d(profile, SMOOTH / STEP, order=1) / STEP
    steep = np.abs(rise)
    if not steep.max() > 0:
        return []
    peaks = [n for n in range(1, len(rise) - 1) if steep[n] >= steep[n - 1] and steep[n] > steep[n + 1]]
    inner = [n for n in peaks if abs(places[n]) <= reach]
    most = max((steep[n] for n in inner), default=0.0)
    found = []
    for n in inner:
        if steep[n] >= STRONG * most:
            found.append(_flank(places, rise, peaks, n))
    return found


def _flank(places, rise, peaks: list[int], n: int) -> Step:
    """A steep place with what is round it that belongs to it: as far as half-way to the next edges, or a narrow bar as
    a whole."""
    here, rises = places[n], bool(rise[n] > 0)
    clear = [m for m in peaks if m != n and abs(rise[m]) > 0.3 * abs(rise[n])]
    against = [m for m in clear if (rise[m] > 0) != rises and abs(places[m] - here) < NARROW]
    partner = min(against, key=lambda m: abs(places[m] - here), default=None)
    ends = [here] if partner is None else sorted((here, places[partner]))
    others = [places[m] for m in clear if m != partner]
    low = max([ends[0] - WIDE, *(0.5 * (o + ends[0]) for o in others if o < ends[0] - 1)])
    high = min([ends[-1] + WIDE, *(0.5 * (o + ends[-1]) for o in others if o > ends[-1] + 1)])
    return Step(float(here), float(low), float(high), rises, None if partner is None else float(places[partner]))


def _fitted(t, s, z, step: Step, there: np.ndarray) -> tuple[float, float, float, float, bool, float, float] | None:
    """A blurred step, or a bar, fitted to the pixels that are `there`: place, slope, their standard uncertainties; None
    where there is none."""
    from scipy.optimize import least_squares
    from scipy.special import ndtr

    near = (t >= step.low) & (t <= step.high)
    x, y, value = t[near], s[near], z[near]
    if len(value) < 12:
        return None
    low_value, high_value = np.percentile(value, (10, 90))
    scale = float(high_value - low_value)
    if not scale > 0:
        return None
    bottom, tall = (low_value, 1.0) if step.rises else (high_value, -1.0)
    # before a bar lies what lies behind it
    behind = step.other is not None and step.other < step.at
    if behind:
        bottom, tall = (high_value, 1.0) if step.rises else (low_value, -1.0)

    def model(p):
        width = math.exp(p[4])
        drawn = ndtr((x - p[0] - p[1] * y) / width)
        if step.other is not None:
            drawn = drawn - ndtr((x - p[5] - p[1] * y) / width)
        return p[2] + p[3] * drawn

    def residual(p):
        return model(p) - (value - bottom) / scale

    start = [step.at, 0.0, 0.0, tall, math.log(0.8)]
    bounds = [(step.low, step.high), (-0.6, 0.6), (-3, 3), (-4, 4), (math.log(0.15), math.log(4.0))]
    scales = [0.1, 0.01, 0.1, 0.1, 0.3]
    if step.other is not None:
        start.append(step.other)
        bounds.append((step.low - 1, step.high + 1))
        scales.append(0.1)
    low, high = zip(*bounds)
    start = list(np.clip(start, np.add(low, 1e-6), np.subtract(high, 1e-6)))
    found = least_squares(residual, start, bounds=(low, high), x_scale=scales)
    freedom = len(value) - len(start)
    noise = float(found.fun @ found.fun) / max(freedom, 1)
    fitted, left = np.zeros(there.shape, bool), np.zeros(there.shape)
    fitted[there] = near
    left[fitted] = found.fun
    try:
        covariance = np.linalg.inv(found.jac.T @ found.jac) * noise * gone_together(left, fitted)
    except np.linalg.LinAlgError:
        return None
    place, slope, _, height, _ = found.x[:5]
    sure, turn = np.sqrt(np.maximum(np.diag(covariance)[:2], 0))
    middle = sure_middle = math.nan
    if step.other is not None:
        middle = float(place + found.x[5]) / 2
        sure_middle = math.sqrt(max(covariance[0, 0] + 2 * covariance[0, 5] + covariance[5, 5], 0.0)) / 2
    surest = min(sure, sure_middle) if math.isfinite(sure_middle) else sure
    told = float(value.var()) * len(value) / scale**2 - float(found.fun @ found.fun)
    clear = abs(height) >= CLEAR * math.sqrt(noise / max(1.0, len(value) / 12)) and told > TELLS * noise * len(start)
    if not clear or not math.isfinite(surest) or surest > UNSURE or (height > 0) != step.rises:
        return None
    sure, sure_middle = max(float(sure), LEAST), sure_middle if math.isnan(sure_middle) else max(sure_middle, LEAST)
    return float(place), float(slope), sure, float(turn), step.rises, middle, sure_middle
