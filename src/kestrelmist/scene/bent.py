"""Sampling through a mapping that bends space. One that bends once goes by kernels; of others, and until kernels are
there, a block of pixels at a time is asked for its places."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np

from ..core.bend import Bend
from ..core.cell import cell, within
from ..core.image import Image
from ..core.kernel import kernel, unmarked
from ..core.mapping import Mapping
from ..core.space import Space
from .lifting import in_bands
from .view import View

BLOCK = 1 << 14
"""Pixels that are asked for at a time."""


def values(view: View, image: Image, smooth: bool, compiled: bool = False) -> np.ndarray:
    """Values under a view's pixels, float32 (height, width), NaN where there are none."""
    assert image.through is not None
    bend = image.through.bend() if compiled and VALUES.at_hand else None
    if bend is not None:
        found = np.empty((view.height, view.width), np.float32)
        frames = _frames(view, image.space, bend)
        given = unmarked(image.kji), unmarked(bend.shifts), *frames
        in_bands(found.shape, lambda a, b: _bent_values(*given, smooth, found, a, b))
        return found
    from scipy import ndimage

    out = np.full(view.width * view.height, np.nan, np.float32)
    for pixels, at in _places(view, image.space, image.through):
        out[pixels] = ndimage.map_coordinates(
            image.kji, at, order=1 if smooth else 0, output=np.float32, mode="nearest", prefilter=False
        )
    return out.reshape(view.height, view.width)


def nearest(
    view: View, volume: np.ndarray, space: Space, through: Mapping, dtype: Any, compiled: bool = False
) -> np.ndarray:
    """Numbers or packed colours of the nearest voxels, 0 outside."""
    bend = through.bend() if compiled and NEAREST.at_hand else None
    if bend is not None:
        found = np.zeros((view.height, view.width), dtype)
        frames = _frames(view, space, bend)
        given = unmarked(volume), unmarked(bend.shifts), *frames
        in_bands(found.shape, lambda a, b: _bent_nearest(*given, found, a, b))
        return found
    out = np.zeros(view.width * view.height, dtype)
    for pixels, at in _places(view, space, through):
        k, j, i = np.rint(at).astype(np.int64)
        out[pixels] = volume[k, j, i]
    return out.reshape(view.height, view.width)


def _frames(view: View, space: Space, bend: Bend) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    return bend.frames(view.to_world(0.0, 0.0), view.right, view.down, space.inverse)


def _places(view: View, space: Space, through: Mapping) -> Iterator[tuple[np.ndarray, np.ndarray]]:
    """Pixels that lie within a grid, and where: (k, j, i) a column, block by block."""
    start = np.asarray(view.to_world(0.0, 0.0))
    last = np.array(space.shape) - 1
    for n in range(0, view.width * view.height, BLOCK):
        pixels = np.arange(n, min(n + BLOCK, view.width * view.height))
        y, x = np.divmod(pixels, view.width)
        at = space.to_voxel(through.to(start + x[:, None] * view.right + y[:, None] * view.down))
        inside = np.all((at >= -0.5) & (at <= last + 0.5), axis=1)
        yield pixels[inside], np.clip(at[inside], 0, last).T[::-1]


@kernel(inline="always")
def _bent(shifts, in_field, on_image, turn, x, y):
    """Where a pixel lies in the image, in voxels."""
    p = in_field[0, 0] * x + in_field[0, 1] * y + in_field[0, 2]
    q = in_field[1, 0] * x + in_field[1, 1] * y + in_field[1, 2]
    r = in_field[2, 0] * x + in_field[2, 1] * y + in_field[2, 2]
    i = on_image[0, 0] * x + on_image[0, 1] * y + on_image[0, 2]
    j = on_image[1, 0] * x + on_image[1, 1] * y + on_image[1, 2]
    k = on_image[2, 0] * x + on_image[2, 1] * y + on_image[2, 2]
    ni, nj, nk = shifts.shape[0], shifts.shape[1], shifts.shape[2]
    if within(p, q, r, ni, nj, nk):
        (a, d, u), (b, e, v), (c, f, w) = cell(p, ni), cell(q, nj), cell(r, nk)
        for m in range(3):
            x00 = shifts[a, b, c, m] + u * (shifts[d, b, c, m] - shifts[a, b, c, m])
            x01 = shifts[a, e, c, m] + u * (shifts[d, e, c, m] - shifts[a, e, c, m])
            x10 = shifts[a, b, f, m] + u * (shifts[d, b, f, m] - shifts[a, b, f, m])
            x11 = shifts[a, e, f, m] + u * (shifts[d, e, f, m] - shifts[a, e, f, m])
            y0, y1 = x00 + v * (x01 - x00), x10 + v * (x11 - x10)
            s = y0 + w * (y1 - y0)
            i += turn[0, m] * s
            j += turn[1, m] * s
            k += turn[2, m] * s
    return i, j, k


@kernel
def _bent_values(volume, shifts, in_field, on_image, turn, smooth, out, first, last):
    nk, nj, ni = volume.shape
    for y in range(first, last):
        for x in range(out.shape[1]):
            i, j, k = _bent(shifts, in_field, on_image, turn, x, y)
            if not within(i, j, k, ni, nj, nk):
                out[y, x] = np.nan
                continue
            if not smooth:
                a, b, c = min(max(i, 0.0), ni - 1.0), min(max(j, 0.0), nj - 1.0), min(max(k, 0.0), nk - 1.0)
                out[y, x] = volume[int(c + 0.5), int(b + 0.5), int(a + 0.5)]
                continue
            (a, d, u), (b, e, v), (c, f, w) = cell(i, ni), cell(j, nj), cell(k, nk)
            x00 = volume[c, b, a] + u * (np.float64(volume[c, b, d]) - volume[c, b, a])
            x01 = volume[c, e, a] + u * (np.float64(volume[c, e, d]) - volume[c, e, a])
            x10 = volume[f, b, a] + u * (np.float64(volume[f, b, d]) - volume[f, b, a])
            x11 = volume[f, e, a] + u * (np.float64(volume[f, e, d]) - volume[f, e, a])
            y0, y1 = x00 + v * (x01 - x00), x10 + v * (x11 - x10)
            out[y, x] = y0 + w * (y1 - y0)


@kernel
def _bent_nearest(volume, shifts, in_field, on_image, turn, out, first, last):
    nk, nj, ni = volume.shape
    for y in range(first, last):
        for x in range(out.shape[1]):
            i, j, k = _bent(shifts, in_field, on_image, turn, x, y)
            if within(i, j, k, ni, nj, nk):
                a, b, c = min(max(i, 0.0), ni - 1.0), min(max(j, 0.0), nj - 1.0), min(max(k, 0.0), nk - 1.0)
                out[y, x] = volume[int(c + 0.5), int(b + 0.5), int(a + 0.5)]


VALUES, NEAREST = _bent_values, _bent_nearest
"""The kernels as such: their names stand for compiled code once there is any."""
