"""A stage ruler read whole: its period by frequency, then all its marks by least squares.

The strongest frequency of the picture is the first guess; where the phase of that frequency runs over the picture
tells it to a small part of a cycle (as in phase-stepping of fringes: M. Takeda, H. Ina and S. Kobayashi, J. Opt. Soc.
Am. 72, 1982). Along the direction so found all pixels make one profile; each mark is laid under the mean of all marks,
and a straight line through their places gives the period.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from ...core.errors import Trouble
from ...core.kernel import kernel
from .waves import FEWEST, by_phase, strongest

ALIKE = 0.15
"""How much alike a profile and itself have to be when it is shifted from mark to mark."""
FILLED, AS_DEEP = 0.85, 0.35
"""Share of the places that have a mark when a period is right, and how deep a mark is at least beside deep ones."""
CLIP = 4.0
"""Standard deviations beyond which a mark is left out, as dirt lies on it."""
LEAST = 3e-6
"""Share of a period that it is unsure by at least: uneven light moves marks by so much."""
NONE_FOUND = "No ruler was found in this picture"


@dataclass(frozen=True)
class RulerRead:
    """What was read.

    Parameters
    ----------
    period : pixels
        From mark to mark, square to them, pixels being as long as columns are apart.
    sure : pixels
        Its standard uncertainty.
    freedom : number
        Degrees of freedom of that.
    way : array (2,)
        Direction of length 1 from mark to mark.
    numbers, places : arrays (n,)
        Of the marks: the how manieth, and where along the direction.
    used : array of bool (n,)
        Which of them count.
    bend : number
        How much the period changes from one end to the other, as a share of it; 0 where that is no more than chance.
    """

    period: float
    sure: float
    freedom: float
    way: np.ndarray
    numbers: np.ndarray
    places: np.ndarray
    used: np.ndarray
    bend: float = 0.0

    @property
    def off(self) -> np.ndarray:
        """How far each mark lies from where a ruler without error has it, pixels."""
        slope, offset = np.polyfit(self.numbers[self.used], self.places[self.used], 1)
        return self.places - (offset + slope * self.numbers)


def read_ruler(values: np.ndarray, aspect: float = 1.0) -> RulerRead:
    """Read a ruler.

    Parameters
    ----------
    values : array [row, column]
        The picture; parallel marks at one distance, at any angle, dark or bright.
    aspect : number
        How much longer a pixel is down than across.

    Raises
    ------
    Trouble
        When no marks at one distance are seen, or fewer than four.
    """
    picture = np.ascontiguousarray(values, np.float32)
    if not np.isfinite(picture).all():
        known = picture[np.isfinite(picture)]
        picture = np.where(np.isfinite(picture), picture, np.median(known) if known.size else 0).astype(np.float32)
    if min(picture.shape) < 8 or not np.ptp(picture) > 0:
        raise _none("the picture is too small, or of one value")
    low, high = np.percentile(picture[:: max(1, picture.shape[0] // 200), :: max(1, picture.shape[1] // 200)], (1, 99))
    picture = (picture - np.float32((low + high) / 2)) / np.float32(max(high - low, 1e-30))
    trouble: Trouble | None = None
    for frequency in strongest(picture):
        try:
            return _read_along(picture, frequency, aspect)
        except Trouble as why:
            trouble = trouble or why
    raise trouble or _none("nothing in it comes again at one distance")


def _read_along(picture: np.ndarray, frequency: np.ndarray, aspect: float) -> RulerRead:
    """The ruler whose marks, or an overtone of them, come with a frequency; raises Trouble when there is none such."""
    frequency, _, strength = by_phase(picture, frequency)
    way = np.array((frequency[0], frequency[1] / aspect))  # per column-long unit of length
    size = float(np.hypot(*way))
    way, period = way / size, 1 / size
    strip = _strip(strength, picture.shape, way, aspect)
    way = _straightened(picture, way, aspect, strip, period)
    profile, start, step = _profile(picture, way, aspect, strip, period)
    true, first = _fundamental(profile, period / step)
    run = np.linspace(-1, 1, len(profile))
    profile = profile - np.polynomial.legendre.legval(run, np.polynomial.legendre.legfit(run, profile, 4))
    profile = -profile if _skew(profile) < 0 else profile
    numbers, places = _marks(profile, true, first)
    return _line(numbers, start + step * places, way)


def _none(why: str) -> Trouble:
    return Trouble(f"{NONE_FOUND}: {why}", "focus on the ruler so that at least four of its marks are seen")


def _strip(strength: np.ndarray, shape: tuple[int, int], way: np.ndarray, aspect: float) -> tuple[float, float]:
    """Between which places beside the direction all marks are: where the wave is strong."""
    from scipy.ndimage import gaussian_filter1d

    side = min(shape[0] // strength.shape[0], shape[1] // strength.shape[1])
    v, u = (np.indices(strength.shape) + 0.5) * side
    beside = (v * aspect * way[0] - u * way[1]).ravel()
    places = np.arange(beside.min(), beside.max() + side, side)
    bins = ((beside - places[0]) / side).astype(int)
    strong = np.bincount(bins, strength.ravel()) / np.maximum(np.bincount(bins), 1)
    among = gaussian_filter1d(strong, 0.5) >= 0.6 * strong.max()
    best = int(strong.argmax())
    first = last = best
    while first > 0 and among[first - 1]:
        first -= 1
    while last + 1 < len(among) and among[last + 1]:
        last += 1
    return float(places[first]), float(places[last] + side)


def _straightened(picture, way: np.ndarray, aspect: float, strip: tuple[float, float], period: float) -> np.ndarray:
    """The direction turned until the profiles of both halves of the strip lie over one another."""
    from scipy.ndimage import gaussian_filter1d

    low, high = strip
    for _ in range(3):
        halves = [_profile(picture, way, aspect, (a, a + (high - low) / 2), period) for a in (low, (low + high) / 2)]
        (one, start, step), (other, begun, _) = halves
        places = np.arange(max(start, begun), min(start + len(one) * step, begun + len(other) * step) - step, step)
        if len(places) < 8:
            return way
        pair = [np.interp(places, s + step * np.arange(len(p)), p) for p, s, _ in halves]
        pair = [gaussian_filter1d(_level(p, 4 * period / step), 1.0) for p in pair]
        slope = np.gradient(pair[0] + pair[1]) / 2
        shift = float((pair[0] - pair[1]) @ slope / (slope @ slope)) * step  # by how much the other lies further on
        turn = float(np.clip(2 * shift / (high - low), -0.02, 0.02))
        way = way - turn * np.array((-way[1], way[0]))
        way /= np.linalg.norm(way)
        if abs(turn) < 1e-5:
            break
    return way


def _profile(
    picture: np.ndarray, way: np.ndarray, aspect: float, strip: tuple[float, float], period: float
) -> tuple[np.ndarray, float, float]:
    """The mean of all pixels of a strip, along a direction; where it begins, and its step."""
    rows, columns = picture.shape
    step = min(0.5, period / 16)
    corners = np.array([(u * way[0] + v * aspect * way[1]) for u in (0, columns - 1) for v in (0, rows - 1)])
    start = float(corners.min()) - step
    count = int(math.ceil((corners.max() - start) / step)) + 2
    sums, weights = np.zeros(count), np.zeros(count)
    beside = -way[1], way[0] * aspect
    _along(picture, way[0] / step, way[1] * aspect / step, -start / step, *beside, *strip, sums, weights)
    there = np.flatnonzero(weights > 0.25 * np.median(weights[weights > 0]))
    first, last = int(there[0]), int(there[-1]) + 1
    sums, weights = sums[first:last], weights[first:last]
    known = weights > 0
    places = np.arange(len(sums))
    return np.interp(places, places[known], sums[known] / weights[known]), start + first * step, step


@kernel
def _along(picture, right, down, start, over, under, low, high, sums, weights):
    """Each pixel of the strip goes to the two places along the direction that it lies between."""
    for v in range(picture.shape[0]):
        first, last = 0, picture.shape[1]
        if abs(over) > 1e-9:
            one, other = (low - under * v) / over, (high - under * v) / over
            first, last = max(first, int(np.ceil(min(one, other)))), min(last, int(np.ceil(max(one, other))))
        elif not low <= under * v < high:
            continue
        for u in range(first, last):
            at = start + right * u + down * v
            n = int(at)
            part = at - n
            value = picture[v, u]
            sums[n] += (1 - part) * value
            weights[n] += 1 - part
            sums[n + 1] += part * value
            weights[n + 1] += part


def _level(profile: np.ndarray, width: float) -> np.ndarray:
    """A profile without what changes slowly."""
    from scipy.ndimage import uniform_filter1d

    return profile - uniform_filter1d(profile, max(3, min(int(width), len(profile) // 2) | 1), mode="nearest")


def _skew(profile: np.ndarray) -> float:
    return float(((profile - profile.mean()) ** 3).mean())


def _fundamental(profile: np.ndarray, wave: float) -> tuple[float, float]:
    """The shortest distance at which there are marks nearly everywhere, and where the first lies; in steps. `wave` is
    that of the strongest frequency, which is it or one of its overtones."""
    from scipy.ndimage import gaussian_filter1d

    smooth = gaussian_filter1d(_level(profile, max(4 * wave, len(profile) / FEWEST)), max(1.0, wave / 40))
    for tried in _distances(smooth):
        level = _level(smooth, 2 * tried)
        level = -level if _skew(level) < 0 else level
        places, depths = _depths(level, tried)
        deep, spare = np.percentile(depths, 80), np.median(level)
        if np.mean(depths - spare > AS_DEEP * (deep - spare)) >= FILLED and _stands_out(level, places, tried):
            return tried, float(places[0])
    raise _none("its marks are not seen clearly, or are fewer than four")


def _distances(smooth: np.ndarray) -> list[float]:
    """Distances by which a profile is shifted and looks alike, the shortest first."""
    from scipy import fft

    count = len(smooth)
    size = fft.next_fast_len(2 * count, real=True)
    power = np.abs(fft.rfft(smooth - smooth.mean(), size)) ** 2
    alike = fft.irfft(power, size)[: count // (FEWEST - 1)] / (count - np.arange(count // (FEWEST - 1)))
    peaks = [n for n in range(4, len(alike) - 1) if alike[n - 1] < alike[n] >= alike[n + 1]]
    found = []
    for n in peaks:
        if alike[n] > ALIKE * alike[0]:
            at = float(n)
            for times in (2, 4, 8, 16, 32, 64):  # several of them tell one more finely
                middle = times * at
                near = np.arange(int(middle - at / 4), int(middle + at / 4) + 2)
                if near[-1] >= len(alike):
                    break
                at = float(near[alike[near].argmax()]) / times
            found.append(at)
    return found


def _depths(smooth: np.ndarray, period: float) -> tuple[np.ndarray, np.ndarray]:
    """Places at a period where the profile is highest on the whole, and how high it is near each."""
    offsets = np.arange(0, period, max(1.0, period / 60))
    at = offsets[:, None] + period * np.arange(int((len(smooth) - 1 - offsets[-1]) / period) + 1)
    at = np.minimum(at, len(smooth) - 1)
    best = float(offsets[int(np.interp(at, np.arange(len(smooth)), smooth).mean(1).argmax())])
    places = np.arange(best, len(smooth) - 0.5, period)
    reach = max(1, int(0.15 * period))
    depths = np.array([smooth[max(0, int(p) - reach) : int(p) + reach + 1].max() for p in places])
    return places, depths


def _stands_out(smooth: np.ndarray, places: np.ndarray, period: float) -> bool:
    """Whether the profile is lower half-way between the places."""
    grid = np.arange(len(smooth))
    there, between = (np.interp(places + d, grid, smooth).mean() for d in (0, period / 2))
    return bool(there - between > 0.5 * smooth.std())


def _marks(profile: np.ndarray, period: float, first: float) -> tuple[np.ndarray, np.ndarray]:
    """Each mark laid under the mean of all: their numbers, and places in steps."""
    from scipy.ndimage import gaussian_filter1d

    grid = np.arange(len(profile))
    half = period * 0.3
    numbers = np.arange(int((len(profile) - 1 - half - first) / period) + 1)
    numbers = numbers[first + numbers * period - half >= 0]
    if len(numbers) < FEWEST:
        raise _none(f"{len(numbers)} of its marks are seen whole")
    window = np.arange(-math.floor(half), math.floor(half) + 1)
    at, heights = first + period * numbers, np.ones(len(numbers))
    for _ in range(6):
        parts = np.stack([np.interp(a + window, grid, profile) for a in at])
        mean = gaussian_filter1d(np.median(parts, 0) if len(at) > 8 else parts.mean(0), 1.0)
        heights, shift = _laid(parts, mean, window / half, _falling(at, heights) * half)
        shift = np.clip(shift, -period / 8, period / 8)
        at = at + shift
        if np.abs(shift).max() < 1e-3:
            break
    inside = (at >= 0) & (at <= len(profile) - 1)
    return numbers[inside], at[inside]


def _falling(at: np.ndarray, heights: np.ndarray) -> np.ndarray:
    """How fast light grows along the ruler at each mark, as a share: uneven light makes one side of a mark stronger,
    which would seem to shift it. It is told by how high marks stand out, one after another."""
    sound = heights > 0.3 * np.median(heights)
    run = at - at.mean()
    fit = np.polyfit(run[sound], heights[sound], min(2, int(sound.sum()) - 2))
    return np.polyval(np.polyder(fit), run) / np.maximum(np.polyval(fit, run), 0.3)


def _laid(parts: np.ndarray, mean: np.ndarray, window: np.ndarray, fall: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """How high each mark is beside the mean one, and how far it is to be shifted to lie under it, in steps; its ground
    and the slope of that are free. Least squares of all marks at once, from their surroundings (n, w)."""
    shapes = mean * (1 + fall[:, None] * window)
    flat = np.broadcast_to(np.ones_like(window), shapes.shape), np.broadcast_to(window, shapes.shape)
    design = np.stack((shapes, -np.gradient(shapes, axis=1), *flat), -1)
    normal = np.einsum("nwa,nwb->nab", design, design)
    normal += 1e-12 * np.eye(4) * normal.trace(axis1=1, axis2=2)[:, None, None]
    solved = np.linalg.solve(normal, np.einsum("nwa,nw->na", design, parts)[..., None])[..., 0]
    heights = solved[:, 0]
    return heights, np.where(np.abs(heights) > 0.1, solved[:, 1] / np.where(heights == 0, 1, heights), 0.0)


def _line(numbers: np.ndarray, places: np.ndarray, way: np.ndarray) -> RulerRead:
    """The straight line through the places, without those that lie far off."""
    used = np.ones(len(numbers), bool)
    for _ in range(5):
        fit = np.polyfit(numbers[used], places[used], 1)
        off = places - np.polyval(fit, numbers)
        usual = 1.4826 * np.median(np.abs(off[used] - np.median(off[used]))) + 1e-6
        now = np.abs(off) <= CLIP * max(usual, 1e-4)
        if np.array_equal(now, used) or now.sum() < FEWEST:
            break
        used = now
    count = int(used.sum())
    if count < FEWEST:
        raise _none("its marks do not stand at one distance")
    n = numbers[used] - numbers[used].mean()
    period, offset = np.polyfit(numbers[used], places[used], 1)
    off = places[used] - (offset + period * numbers[used])
    spread = math.sqrt(float(off @ off) / (count - 2))
    if spread > 0.1 * period:
        raise _none("its marks do not stand at one distance")
    sure = math.hypot(spread / math.sqrt(float(n @ n)), LEAST * period)
    return RulerRead(float(period), sure, count - 2.0, way, numbers, places, used, _bend(numbers[used], places[used]))


def _bend(numbers: np.ndarray, places: np.ndarray) -> float:
    """By what share the period changes from one end to the other, where that is more than chance."""
    if len(numbers) < 8:
        return 0.0
    n = (numbers - numbers.mean()) / np.ptp(numbers)
    (bent, slope, _), covariance = np.polyfit(n, places, 2, cov=True)
    return float(2 * bent / slope) if abs(bent) > 5 * math.sqrt(covariance[0, 0]) else 0.0
