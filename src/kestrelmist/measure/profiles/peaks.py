"""Peaks of a profile: where, how high over the ground beside them, and how wide at half of that."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from .paths import OVER, Profile

CLEAR = 8.0
"""How many times the noise a peak stands out, to be one, where nobody says."""


FEW = 3
"""Points beside a peak from which on they tell its ground."""
MEDIAN = 1.25
"""How much less sure a median is than a mean."""
ROUNDS, ALIKE, ENOUGH = 4, 1.05, 12
"""How often noise is looked for beside the peaks it tells, by how much it grows at least, from how many points on."""
NEAR = 0.3
"""Share of its width from its middle within which a peak is as a parabola."""


@dataclass(frozen=True)
class Peak:
    """A peak, or a dip; lengths in the unit of the profile.

    Parameters
    ----------
    at, sure_at : where its middle at half height lies, and the standard uncertainty of that by noise
    height, ground : the value at its top, and that from which its height counts
    width, sure_width : full width at half maximum; NaN where a side does not come down to half
    foot : from where to where it stands out
    """

    at: float
    sure_at: float
    height: float
    ground: float
    width: float
    sure_width: float
    foot: tuple[float, float] = (math.nan, math.nan)


def peaks_of(profile: Profile, dark: bool = False, least: float | None = None) -> tuple[list[Peak], float]:
    """Peaks that stand out by at least so much from what lies beside them, or by CLEAR times the noise; in order. And
    the noise, which is what varies beside them, or from point to point where that is more.

    A peak stands out by its topographic prominence. Its ground is a straight line between the medians of what lies on
    both sides, from a whole width off its middle to the lowest value there; its height the mean of what lies near its
    top, by a parabola; its width is taken half-way between both, sides between points linearly. How sure a side is
    follows from the noise there and in ground and height, and how steep it is.
    """

    there = np.isfinite(profile.mean)
    if there.sum() < 3:
        return [], 0.0
    sign = -1.0 if dark else 1.0
    along, values = profile.along[there], sign * profile.mean[there]
    noise, found = Noise(profile.noise, OVER), []
    for _ in range(ROUNDS):
        found = _found(along, values, noise, least)
        rougher = _left_over(along, values, found, profile.noise)
        if rougher is None:
            break
        grew, noise = rougher.size > noise.size * ALIKE, rougher
        if not grew:
            found = _found(along, values, noise, least)
            break
    return [replace(one, height=sign * one.height, ground=sign * one.ground) for one in found], noise.size


@dataclass(frozen=True)
class Noise:
    """Standard deviation of what is no peak, and how many points of a profile tell as much as one."""

    size: float
    together: float


def _found(along: np.ndarray, values: np.ndarray, noise: Noise, least: float | None) -> list[Peak]:
    from scipy.signal import find_peaks

    least = max(CLEAR * noise.size, 1e-9 * float(np.ptp(values))) if least is None else least
    tops, more = find_peaks(values, prominence=max(least, 1e-300))
    return [
        _peak(along, values, (int(left), int(top), int(right)), float(stand), noise)
        for top, stand, left, right in zip(tops, more["prominences"], more["left_bases"], more["right_bases"])
    ]


def _left_over(along: np.ndarray, values: np.ndarray, found: list[Peak], least: float) -> Noise | None:
    """What varies beside the peaks, about a straight line; noise that goes together over many points does not show
    from one to the next. None where too little lies beside them."""
    beside = np.ones(len(values), bool)
    for one in found:
        low, high = one.foot if math.isnan(one.width) else (one.at - 1.3 * one.width, one.at + 1.3 * one.width)
        beside &= (along < low) | (along > high)
    if beside.sum() < ENOUGH:
        return None
    x, y = along[beside], values[beside]
    left = y - np.polyval(np.polyfit(x, y, 1), x)
    size = 1.4826 * float(np.median(np.abs(left - np.median(left))))
    whole = np.zeros(len(values))
    whole[beside] = left
    variance, total = float((left**2).mean()), 1.0
    for apart in range(1, len(values) // 4):
        both = beside[:-apart] & beside[apart:]
        if both.sum() < ENOUGH or not variance > 0:
            break
        rho = float((whole[:-apart] * whole[apart:])[both].mean()) / variance
        if rho < 0.1:
            break
        total += 2 * min(rho, 1.0)
    return Noise(max(size, least), max(total, OVER))


def _peak(along: np.ndarray, values: np.ndarray, ends: tuple[int, int, int], stand: float, noise: Noise) -> Peak:
    left, top, right = ends
    foot = float(along[left]), float(along[right])
    half = float(values[top]) - stand / 2
    one, other = (_side(along, values, top, half, way, noise.size) for way in (-1, 1))
    if one is None or other is None:
        low = float(values[top]) - stand
        return Peak(float(along[top]), math.nan, float(values[top]), low, math.nan, math.nan, foot)
    low, high = one[0], other[0]
    wide, middle = high - low, (low + high) / 2
    grounds = []
    for a, b in ((left, np.searchsorted(along, middle - wide)), (np.searchsorted(along, middle + wide), right + 1)):
        if b - a >= FEW:
            grounds.append((float(along[a:b].mean()), float(np.median(values[a:b])), int(b - a)))
    lowest = float(values[top]) - stand
    ground, sure_ground = lowest, noise.size
    median = MEDIAN * noise.size * math.sqrt(noise.together)
    if len(grounds) == 2:
        (x0, y0, n0), (x1, y1, n1) = grounds
        share = (middle - x0) / (x1 - x0)
        ground = y0 + share * (y1 - y0)
        sure_ground = median * math.hypot((1 - share) / math.sqrt(n0), share / math.sqrt(n1))  # of a median
    elif grounds:
        ground, sure_ground = grounds[0][1], median / math.sqrt(grounds[0][2])
    height, sure_height = _top(along, values, middle, wide, noise)
    half = (ground + height) / 2
    one, other = (_side(along, values, top, half, way, noise.size) for way in (-1, 1))
    if one is None or other is None:
        return Peak(middle, math.nan, height, ground, math.nan, math.nan, foot)
    (low, sure_low, steep_low), (high, sure_high, steep_high) = one, other
    of_half = math.hypot(sure_ground, sure_height) / 2
    sides_of_noise = math.hypot(sure_low, sure_high)
    sure_width = math.hypot(sides_of_noise, of_half / steep_low + of_half / steep_high)
    sure_at = math.hypot(sides_of_noise, of_half / steep_low - of_half / steep_high) / 2
    return Peak((low + high) / 2, sure_at, height, ground, high - low, sure_width, foot)


def _top(along: np.ndarray, values: np.ndarray, middle: float, wide: float, noise: Noise) -> tuple[float, float]:
    """The height of a peak, by a parabola through what lies within NEAR of its width from its middle, and how sure it
    is; of few points the highest one."""
    near = np.abs(along - middle) <= NEAR * wide
    count = int(near.sum())
    if count < 5:
        return float(values[near].max(initial=-math.inf)) if count else float(values.max()), noise.size
    x = (along[near] - middle) / wide
    design = np.column_stack((np.ones(count), x, x * x))
    (height, slope, bend), *_ = np.linalg.lstsq(design, values[near], rcond=None)
    at = float(np.clip(-slope / (2 * bend), -NEAR, NEAR)) if bend < 0 else 0.0
    spread = np.linalg.inv(design.T @ design)
    way = np.array((1.0, at, at * at))
    return float(height + slope * at + bend * at * at), noise.size * min(
        1.0, math.sqrt(noise.together * float(way @ spread @ way))
    )


def _side(
    along: np.ndarray, values: np.ndarray, top: int, half: float, way: int, noise: float
) -> tuple[float, float, float] | None:
    """Where a peak comes down to half of its height on one side, how sure that is, and how steep it is there; None
    where it does not come down."""
    n = top
    while 0 <= n + way < len(values) and values[n + way] > half:
        n += way
    m = n + way
    if not 0 <= m < len(values) or not values[n] > values[m]:
        return None
    share = float((values[n] - half) / (values[n] - values[m]))
    place = float(along[n] + share * (along[m] - along[n]))
    a, b = max(0, min(n, m) - 1), min(len(values), max(n, m) + 2)
    steep = abs(float(np.polyfit(along[a:b] - place, values[a:b], 1)[0]))
    return (place, noise / steep, steep) if steep > 0 else None
