"""Values of an image along the line of a mark, averaged across a band, and outwards from the middle of one."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ...core.errors import Trouble
from ...core.geometry.hits import Slice, seen
from ...core.geometry.mark import Mark
from ...core.geometry.shape import shape_named
from ...core.image import Image
from ..section import MOST, PIECE, Between, thinnest, values_at

OVER = 2
"""Points of a profile to a voxel, so that peaks of a few voxels are followed."""
APART = 2 * OVER
"""Points from one to the next of those that noise is told by: what lies between voxels shares them with neighbours."""
BLOCK = 1_000_000
"""Places of a band at which values are taken at a time."""
SAMPLES = 50_000_000
"""Places of a band at which values are taken at most."""


@dataclass(frozen=True)
class Profile:
    """What was found along a mark: distances (n,) in the unit of the world; mean, standard deviation and number of
    values at each (n,), NaN where there is none; and their noise, estimated from neighbour to neighbour."""

    along: np.ndarray
    mean: np.ndarray
    sd: np.ndarray
    count: np.ndarray

    @property
    def noise(self) -> float:
        """Standard deviation of what is not smooth: of differences of second order between points so far apart that
        hardly a voxel counts for two of them, by their median (F. R. Hampel, J. Am. Stat. Assoc. 69, 1974)."""
        told = self.mean[np.isfinite(self.mean)]
        if len(told) < 2 * APART + 3:
            return 0.0
        second = told[: -2 * APART] - 2 * told[APART:-APART] + told[2 * APART :]
        return float(np.median(np.abs(second - np.median(second)))) * 1.4826 / np.sqrt(6)


def step_of(image: Image) -> float:
    """From point to point of a profile: half of the smallest side of a voxel."""
    space = image.space
    return min([s for s, n in zip(space.spacing, space.shape) if n > 1] or [min(space.spacing)]) / OVER


def line_of(mark: Mark) -> np.ndarray:
    """The line of a mark, world positions (n, 3); a closed one comes back to where it began."""
    if mark.normal is not None:
        line, closed = seen(mark, Slice(mark.middle, np.array(mark.normal)))
    else:
        line, closed = mark.outline, shape_named(mark.shape).closed
    return np.vstack((line, line[:1])) if closed else line


def along(image: Image, mark: Mark, width: float, between: Between = "cubic") -> Profile:
    """Values along the line of a mark, in steps of the smallest voxel side; the band lies
    square to the line in the plane it was drawn in.

    Raises
    ------
    Trouble
        When the line is shorter than a voxel or too long, or meets no value of the image.
    """
    line, step = line_of(mark), step_of(image)
    parts = np.linalg.norm(np.diff(line, axis=0), axis=1)
    line, parts = line[np.concatenate(([True], parts > 0))], parts[parts > 0]
    ends = np.concatenate(([0.0], np.cumsum(parts)))
    if not ends[-1] > OVER * step / 2:
        raise Trouble(f"{_capital(mark)} is shorter than a voxel", "draw it longer")
    count = round(ends[-1] / step) + 1
    beside = max(1, round(width / step) + 1) if width > 0 else 1
    if count > MOST or count * beside > SAMPLES:
        raise Trouble(f"{_capital(mark)} is {count} voxels long and {beside} wide", "draw it shorter or narrower")
    at = np.linspace(0, ends[-1], count)
    n = np.clip(np.searchsorted(ends, at, "right") - 1, 0, len(parts) - 1)
    way = np.diff(line, axis=0) / parts[:, None]
    places = line[n] + (at - ends[n])[:, None] * way[n]
    values = np.empty((count, beside))
    sides = across(way, mark)[n]
    offsets = np.linspace(-width / 2, width / 2, beside) if beside > 1 else np.zeros(1)
    block = max(PIECE, BLOCK // beside)
    for first in range(0, count, block):  # what lies side by side is read once
        some = slice(first, first + block)
        band = places[some, None] + offsets[:, None] * sides[some, None]
        found = values_at(image, band.reshape(-1, 3), PIECE * beside, between)
        values[some] = found.reshape(-1, beside)
    return _told(at, values, image, mark)


def across(way: np.ndarray, mark: Mark) -> np.ndarray:
    """Directions square to those of a line (n, 3), in the plane it was drawn in; without one, in that of the two world
    axes that it runs along most."""
    if mark.normal is not None:
        normal = np.array(mark.normal)
    else:
        normal = np.zeros(3)
        normal[thinnest(np.abs(way).sum(0))] = 1.0
    side = np.cross(normal, way)
    size = np.linalg.norm(side, axis=1, keepdims=True)
    return np.divide(side, size, out=np.zeros_like(side), where=size > 1e-12)


def outwards(image: Image, mark: Mark, reach: float, between: Between = "cubic") -> Profile:
    """Means over copies of a closed outline about its middle, from the middle to `reach` times its size; distances are
    those of a circle as far from its middle on the mean.

    Raises
    ------
    Trouble
        When the mark is not closed, is smaller than a voxel, or meets no value of the image.
    """
    if not shape_named(mark.shape).closed:
        raise Trouble(f"{_capital(mark)} has no inside", "draw a circle, an ellipse or a polygon")
    step = step_of(image)
    line = line_of(mark)
    parts = np.linalg.norm(np.diff(line, axis=0), axis=1)
    round_it = np.concatenate(([0.0], np.cumsum(parts)))
    even = np.linspace(0, round_it[-1], max(32, round(round_it[-1] / step)), endpoint=False)
    rim = np.column_stack([np.interp(even, round_it, line[:, axis]) for axis in range(3)])
    middle = _middle(line[:-1], mark)
    radius = float(np.linalg.norm(rim - middle, axis=1).mean())
    if not radius > OVER * step / 2:
        raise Trouble(f"{_capital(mark)} is smaller than a voxel", "draw it larger")
    count = round(reach * radius / step) + 1
    if count > MOST or count * len(rim) > SAMPLES:
        raise Trouble(f"{_capital(mark)} is {count} voxels from its middle to its end", "draw it smaller")
    shares = np.linspace(0, reach, count)
    found = []
    for share in shares:
        some = rim[:: max(1, round(1 / max(share, 1e-3)))] if share < 1 else rim
        found.append(values_at(image, middle + share * (some - middle), between=between))
    longest = max(map(len, found))
    values = np.full((count, longest), np.nan)
    for n, one in enumerate(found):
        values[n, : len(one)] = one
    return _told(shares * radius, values, image, mark)


def _middle(corners: np.ndarray, mark: Mark) -> np.ndarray:
    """Of the area of a flat outline; of shapes with a middle of their own the same."""
    from_first = corners - corners[0]
    crosses = np.cross(from_first[1:-1], from_first[2:])
    normal = crosses.sum(0)
    size = float(np.linalg.norm(normal))
    if not size > 0:
        return corners.mean(0)
    areas = crosses @ normal / size
    return corners[0] + ((from_first[1:-1] + from_first[2:]) / 3 * areas[:, None]).sum(0) / areas.sum()


def _capital(mark: Mark) -> str:
    return mark.called[:1].upper() + mark.called[1:]


def _told(at: np.ndarray, values: np.ndarray, image: Image, mark: Mark) -> Profile:
    there = np.isfinite(values)
    count = there.sum(1)
    if not count.any():
        raise Trouble(f"{_capital(mark)} meets no value of “{image.name}”", "draw it over the image")
    with np.errstate(invalid="ignore", divide="ignore"):
        mean = np.where(there, values, 0).sum(1) / count
        spread = np.where(there, values - mean[:, None], 0)
        sd = np.sqrt((spread**2).sum(1) / (count - 1))
    return Profile(at, np.where(count > 0, mean, np.nan), np.where(count > 1, sd, np.nan), count)
