"""The part of a slice that a view along the grid shows, lifted out of a volume.

A sagittal slice is a voxel here and a voxel there: one pass that reads each once is quicker than many that jump.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ..core import kernel as kernels
from ..core.halves import in_halves
from ..core.kernel import kernel

SMALL = 20_000
"""Pixels of a picture that is not worth loading kernels for."""


def in_bands(shape: tuple[int, int], work: Callable[[int, int], object]) -> None:
    """Run `work(first row, last row)` on two halves of a picture at once."""
    in_halves(shape[0], work, shape[0] * shape[1])


@dataclass(frozen=True)
class Lifted:
    """The part of a slice in view as `values` [down, across], and how picture pixels lead into it: place = start +
    step * pixel."""

    values: np.ndarray
    across: tuple[float, float]
    down: tuple[float, float]
    edges: tuple[float, float, float, float]
    """Lowest and highest place across, then down, at which there is still a voxel."""

    def columns(self, width: int) -> np.ndarray:
        return _places(*self.across, width, self.values.shape[1], self.edges[:2])

    def rows(self, height: int) -> np.ndarray:
        return _places(*self.down, height, self.values.shape[0], self.edges[2:])


def _places(start: float, step: float, count: int, size: int, edges) -> np.ndarray:
    """For each pixel: lower voxel, upper voxel, weight of the upper, nearest voxel (-1 outside); float64 (4, count)."""
    place = start + step * np.arange(count)
    outside = (place < edges[0]) | (place >= edges[1])
    inside = np.clip(place, 0, size - 1)
    lower = np.floor(inside)
    nearest = np.where(outside, -1, np.clip(np.floor(place + 0.5), 0, size - 1))
    return np.stack([lower, np.minimum(lower + 1, size - 1), inside - lower, nearest])


def lifted(volume: np.ndarray, frame: np.ndarray, shape: tuple[int, int], smooth: bool) -> Lifted | None:
    """The part of a slice that a view shows, mixed from two neighbours when it lies between them and `smooth` is on.

    Parameters
    ----------
    volume : array [k, j, i]
    frame : array (3, 3)
        Voxel coordinates (i, j, k) of the first pixel and their steps to the right and down.
    shape : tuple
        Rows and columns of the picture.

    Returns
    -------
    Lifted, or None when the view does not run along the grid or lies outside it.
    """
    right, down = np.abs(frame[1]), np.abs(frame[2])
    small = 1e-7 * max(right.max(), down.max())
    h, v = int(np.argmax(right)), int(np.argmax(down))
    if h == v or (right > small).sum() != 1 or (down > small).sum() != 1:
        return None
    axis = 3 - h - v
    place, size = float(frame[0, axis]), volume.shape[2 - axis]
    if not -0.5 <= place < size - 0.5:
        return None
    first = int(np.floor(place if smooth else place + 0.5))
    weight = place - first if smooth and place > 0 and first < size - 1 else 0.0
    first = min(max(first, 0), size - 1)
    turned = np.moveaxis(volume, (2 - axis, 2 - v, 2 - h), (0, 1, 2))
    across = _window(float(frame[0, h]), float(frame[1, h]), shape[1], turned.shape[2])
    along = _window(float(frame[0, v]), float(frame[2, v]), shape[0], turned.shape[1])
    edges = (-0.5 - across[0], turned.shape[2] - 0.5 - across[0], -0.5 - along[0], turned.shape[1] - 0.5 - along[0])
    ways = (float(frame[0, h]) - across[0], float(frame[1, h])), (float(frame[0, v]) - along[0], float(frame[2, v]))
    window = (slice(*along), slice(*across))
    one = turned[first][window]
    if weight < 1e-4:
        whole = turned[first]
        if whole.flags.c_contiguous:  # an axial slice lies in memory as it is wanted
            return Lifted(whole, (float(frame[0, h]), ways[0][1]), (float(frame[0, v]), ways[1][1]), _whole(whole))
        return Lifted(_copied(one), *ways, edges)
    return Lifted(_mixed(one, turned[first + 1][window], weight), *ways, edges)


def _whole(plane: np.ndarray) -> tuple[float, float, float, float]:
    return -0.5, plane.shape[1] - 0.5, -0.5, plane.shape[0] - 0.5


def _window(start: float, step: float, count: int, size: int) -> tuple[int, int]:
    """First and last voxel (excluded) that pixels of a picture can touch, at least one."""
    ends = sorted((start, start + step * (count - 1)))
    first = int(np.clip(np.floor(ends[0]) - 1, 0, size - 1))
    return first, int(np.clip(np.ceil(ends[1]) + 2, first + 1, size))


def _copied(part: np.ndarray) -> np.ndarray:
    if not kernels.ready() or part.size < SMALL:
        return np.ascontiguousarray(part)
    out = np.empty(part.shape, part.dtype)
    in_bands(part.shape, lambda a, b: _copy(part, out, a, b))
    return out


def _mixed(one: np.ndarray, other: np.ndarray, weight: float) -> np.ndarray:
    share = np.float32(weight)
    if not kernels.ready() or one.size < SMALL:
        a = one.astype(np.float32)
        return a + (other.astype(np.float32) - a) * share
    out = np.empty(one.shape, np.float32)
    in_bands(one.shape, lambda a, b: _mix(one, other, share, out, a, b))
    return out


@kernel
def _copy(plane, out, top, bottom):
    for y in range(top, bottom):
        for x in range(out.shape[1]):
            out[y, x] = plane[y, x]


@kernel
def _mix(one, other, weight, out, top, bottom):
    for y in range(top, bottom):
        for x in range(out.shape[1]):
            a = np.float32(one[y, x])
            out[y, x] = a + (np.float32(other[y, x]) - a) * weight
