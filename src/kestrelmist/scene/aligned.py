"""Drawing a slice that runs along the grid: lift it out of the volume, then mix rows and columns apart.

Across the memory's fast axis every voxel lies in a cache line of its own; fetching them in a plain loop first lets the
processor wait for many at once. After that the interpolation falls apart into one weight a row and one a column.
"""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numba
import numpy as np

from .colours import packed

BACKGROUND = packed("#0B1013")
_second_core = ThreadPoolExecutor(1, thread_name_prefix="pane")


def in_bands(shape, work) -> None:
    """Run `work(first row, last row)` on two halves of a picture at once."""
    if shape[0] * shape[1] < 40_000:  # handing over costs more than it saves
        work(0, shape[0])
        return
    half = shape[0] // 2
    other = _second_core.submit(work, half, shape[0])
    work(0, half)
    other.result()


@dataclass(frozen=True)
class Lifted:
    """A slice as `values` [down, across], and how picture pixels lead into it: place = start + step * pixel."""

    values: np.ndarray
    across: tuple[float, float]
    down: tuple[float, float]

    def columns(self, width: int) -> np.ndarray:
        return _places(*self.across, width, self.values.shape[1])

    def rows(self, height: int) -> np.ndarray:
        return _places(*self.down, height, self.values.shape[0])


def _places(start: float, step: float, count: int, size: int) -> np.ndarray:
    """For each pixel: lower voxel, upper voxel, weight of the upper, nearest voxel (-1 outside); float32 (4, count)."""
    place = start + step * np.arange(count)
    outside = (place < -0.5) | (place >= size - 0.5)
    inside = np.clip(place, 0, size - 1)
    lower = np.floor(inside)
    nearest = np.where(outside, -1, np.clip(np.floor(place + 0.5), 0, size - 1))
    return np.stack([lower, np.minimum(lower + 1, size - 1), inside - lower, nearest]).astype(np.float32)


def lifted(volume: np.ndarray, frame: np.ndarray, smooth: bool) -> Lifted | None:
    """The slice that a view shows, mixed from two neighbours when it lies between them and `smooth` is on.

    Parameters
    ----------
    volume : array [k, j, i]
    frame : array (3, 3)
        Voxel coordinates (i, j, k) of the first pixel and their steps to the right and down.

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
    shape = turned.shape[1:]
    if weight < 1e-4:
        plane = np.empty(shape, volume.dtype)
        in_bands(shape, lambda a, b: _copy(turned[first], plane, a, b))
    else:
        plane = np.empty(shape, np.float32)
        in_bands(shape, lambda a, b: _mix(turned[first], turned[first + 1], np.float32(weight), plane, a, b))
    return Lifted(plane, (float(frame[0, h]), float(frame[1, h])), (float(frame[0, v]), float(frame[2, v])))


@numba.njit(nogil=True, cache=True)
def _copy(plane, out, top, bottom):
    for y in range(top, bottom):
        for x in range(out.shape[1]):
            out[y, x] = plane[y, x]


@numba.njit(nogil=True, cache=True)
def _mix(one, other, weight, out, top, bottom):
    for y in range(top, bottom):
        for x in range(out.shape[1]):
            a = np.float32(one[y, x])
            out[y, x] = a + (np.float32(other[y, x]) - a) * weight


@numba.njit(nogil=True, cache=True, inline="always")
def blend(under, over, opacity):
    a = int(opacity * 256)
    r = (((under >> 16) & 255) * (256 - a) + ((over >> 16) & 255) * a) >> 8
    g = (((under >> 8) & 255) * (256 - a) + ((over >> 8) & 255) * a) >> 8
    b = ((under & 255) * (256 - a) + (over & 255) * a) >> 8
    return np.uint32(0xFF000000 | (r << 16) | (g << 8) | b)


@numba.njit(nogil=True, cache=True)
def shade(value, base, scale, colours, under, opacity, tint_low, tint_high, tint_colour):
    """Packed colour of a value, tinted when it lies in the tint's range (which is empty when low is above high)."""
    if value != value:  # no value was measured here
        return under
    colour = colours[int(min(max((value - base) * scale, np.float32(0.0)), np.float32(255.0)))]
    if opacity < 1.0:
        colour = blend(under, colour, opacity)
    if tint_low <= value <= tint_high:
        colour = blend(colour, tint_colour, 0.45)
    return colour


@numba.njit(nogil=True, cache=True, fastmath={"contract", "reassoc", "nsz", "arcp"})
def draw_plane(plane, columns, rows, low, high, colours, smooth, opacity, tint_low, tint_high, tint_colour, out, top, bottom):
    """Colour rows `top` to `bottom` of a picture from a lifted slice."""
    width, size = out.shape[1], plane.shape[1]
    scale = np.float32(255.0 / (high - low)) if high > low else np.float32(0.0)
    base, under = np.float32(low), np.uint32(BACKGROUND)
    line = np.empty(size, np.float32)
    left, right, nearest = columns[0].astype(np.int32), columns[1].astype(np.int32), columns[3].astype(np.int32)
    weights = columns[2].copy()
    for y in range(top, bottom):
        if rows[3, y] < 0:
            out[y, :] = under
            continue
        if smooth:
            j, j1, w = int(rows[0, y]), int(rows[1, y]), rows[2, y]
            for x in range(size):
                a = np.float32(plane[j, x])
                line[x] = a + (np.float32(plane[j1, x]) - a) * w
        else:
            j = int(rows[3, y])
            for x in range(size):
                line[x] = np.float32(plane[j, x])
        for x in range(width):
            if nearest[x] < 0:
                out[y, x] = under
                continue
            if smooth:
                a = line[left[x]]
                value = a + (line[right[x]] - a) * weights[x]
            else:
                value = line[nearest[x]]
            out[y, x] = shade(value, base, scale, colours, under, opacity, tint_low, tint_high, tint_colour)


@numba.njit(nogil=True, cache=True)
def draw_colour_plane(plane, columns, rows, smooth, opacity, out, top, bottom):
    """Draw rows `top` to `bottom` of a picture from a lifted slice of packed colours."""
    under = np.uint32(BACKGROUND)
    left, right, nearest = columns[0].astype(np.int32), columns[1].astype(np.int32), columns[3].astype(np.int32)
    for y in range(top, bottom):
        if rows[3, y] < 0:
            out[y, :] = under
            continue
        j, j1, near = int(rows[0, y]), int(rows[1, y]), int(rows[3, y])
        wy = int(rows[2, y] * 256)
        for x in range(out.shape[1]):
            if nearest[x] < 0:
                out[y, x] = under
                continue
            colour = plane[near, nearest[x]]
            if smooth:
                wx = int(columns[2, x] * 256)
                colour = np.uint32(0xFF000000)
                for shift in (0, 8, 16):
                    a = int(plane[j, left[x]] >> shift) & 255
                    b = int(plane[j, right[x]] >> shift) & 255
                    c = int(plane[j1, left[x]] >> shift) & 255
                    d = int(plane[j1, right[x]] >> shift) & 255
                    one, other = a * 256 + (b - a) * wx, c * 256 + (d - c) * wx
                    colour |= np.uint32(((one * 256 + (other - one) * wy) >> 16) << shift)
            out[y, x] = blend(under, colour, opacity) if opacity < 1.0 else colour


@numba.njit(nogil=True, cache=True)
def sample_plane(plane, columns, rows, numbers, top, bottom):
    """Label numbers for rows `top` to `bottom` of a picture from a lifted slice."""
    nearest = columns[3].astype(np.int32)
    for y in range(top, bottom):
        if rows[3, y] < 0:
            numbers[y, :] = 0
            continue
        j = int(rows[3, y])
        for x in range(numbers.shape[1]):
            numbers[y, x] = plane[j, nearest[x]] if nearest[x] >= 0 else 0
