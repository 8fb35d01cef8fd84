"""Sampling and colouring by numpy alone: what the kernels do, for small pictures and until the kernels are loaded.

Slower by a factor of two to four, and needs nothing compiled. The kernels are tested against it.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from .lifting import Lifted

BLOCK = 1 << 14
"""Pixels that are worked on at a time: what they need stays in the cache."""


def values(plane: Lifted | None, volume: np.ndarray, frame: np.ndarray, shape, smooth: bool) -> np.ndarray:
    """Values under the pixels of a picture, float32, NaN outside."""
    if plane is None:
        return _tilted_values(volume, frame, shape, smooth)
    columns, rows = plane.columns(shape[1]), plane.rows(shape[0])
    outside = (rows[3] < 0)[:, None] | (columns[3] < 0)[None, :]
    if smooth:
        left, right, wx = columns[0].astype(int), columns[1].astype(int), columns[2].astype(np.float32)
        top, bottom, wy = rows[0].astype(int), rows[1].astype(int), rows[2].astype(np.float32)[:, None]
        used = np.unique(np.concatenate([left, right]))
        at = np.searchsorted(used, left), np.searchsorted(used, right)
        upper = plane.values[top[:, None], used[None, :]].astype(np.float32)
        lower = plane.values[bottom[:, None], used[None, :]].astype(np.float32)
        with np.errstate(invalid="ignore"):  # infinite values have no distance from each other
            lines = upper + (lower - upper) * wy
            found = lines[:, at[0]]
            found = found + (lines[:, at[1]] - found) * wx
    else:
        found = _picked(plane.values, columns, rows).astype(np.float32)
    found[outside] = np.nan
    return found


def nearest(plane: Lifted | None, volume: np.ndarray, frame: np.ndarray, shape, dtype) -> np.ndarray:
    """Nearest voxels under the pixels of a picture, 0 outside."""
    if plane is None:
        out = np.empty(shape, dtype)
        for part, index, outside in _blocks(volume.shape, frame, shape):
            out[part] = volume[tuple(np.floor(index + 0.5).astype(int))]
            out[part][outside] = 0
        return out
    columns, rows = plane.columns(shape[1]), plane.rows(shape[0])
    outside = (rows[3] < 0)[:, None] | (columns[3] < 0)[None, :]
    return np.where(outside, 0, _picked(plane.values, columns, rows)).astype(dtype, copy=False)


def _picked(values: np.ndarray, columns: np.ndarray, rows: np.ndarray) -> np.ndarray:
    return values[np.maximum(rows[3], 0).astype(int)[:, None], np.maximum(columns[3], 0).astype(int)[None, :]]


def colours(plane: Lifted | None, volume: np.ndarray, frame: np.ndarray, shape) -> np.ndarray:
    """Packed colours mixed between neighbouring voxels, 0 outside."""
    if plane is None:
        index, outside = _tilted(volume.shape, frame, shape)
        low = np.floor(index).astype(int)
        high = np.minimum(low + 1, np.array(volume.shape)[:, None, None] - 1)
        corners = [volume[k, j, i] for k in (low[0], high[0]) for j in (low[1], high[1]) for i in (low[2], high[2])]
        shares = ((index - low) * 256).astype(np.int64)
    else:
        columns, rows = plane.columns(shape[1]), plane.rows(shape[0])
        outside = (rows[3] < 0)[:, None] | (columns[3] < 0)[None, :]
        corners = [plane.values[r.astype(int)[:, None], c.astype(int)[None, :]] for r in rows[:2] for c in columns[:2]]
        shares = [(rows[2] * 256).astype(np.int64)[:, None], (columns[2] * 256).astype(np.int64)]
    out = np.full(shape, 0xFF000000, np.uint32)
    for shift in (0, 8, 16):
        parts = [(corner >> np.uint32(shift)).astype(np.int64) & 255 for corner in corners]
        for share in reversed(shares):  # two of each pair become one: across, then down, then between slices
            parts = [a * 256 + (b - a) * share for a, b in zip(parts[::2], parts[1::2])]
        out |= (parts[0] >> (8 * len(shares)) << shift).astype(np.uint32)
    out[outside] = 0
    return out


def _tilted(size, frame: np.ndarray, shape) -> tuple[np.ndarray, np.ndarray]:
    """Voxel coordinates [k, j, i] under every pixel, kept inside the grid, and which pixels lie outside it."""
    x, y = np.arange(shape[1]), np.arange(shape[0])[:, None]
    index, outside = np.empty((3, *shape)), np.zeros(shape, bool)
    for axis, n in enumerate((2, 1, 0)):
        at = np.add(frame[0, n] + frame[1, n] * x, frame[2, n] * y, out=index[axis])
        outside |= (at < -0.5) | (at >= size[axis] - 0.5)
        np.clip(at, 0, size[axis] - 1, out=at)
    return index, outside


def _blocks(size, frame: np.ndarray, shape) -> Iterator[tuple[slice, np.ndarray, np.ndarray]]:
    """Rows of a picture a block at a time, with what `_tilted` tells of them."""
    rows = max(1, BLOCK // max(shape[1], 1))
    for top in range(0, shape[0], rows):
        height = min(rows, shape[0] - top)
        below = frame.copy()
        below[0] += top * frame[2]
        yield slice(top, top + height), *_tilted(size, below, (height, shape[1]))


def _tilted_values(volume: np.ndarray, frame: np.ndarray, shape, smooth: bool) -> np.ndarray:
    out = np.empty(shape, np.float32)
    for part, index, outside in _blocks(volume.shape, frame, shape):
        out[part] = _between(volume, index) if smooth else volume[tuple(np.floor(index + 0.5).astype(int))]
        out[part][outside] = np.nan
    return out


def _between(volume: np.ndarray, index: np.ndarray) -> np.ndarray:
    """Values at voxel coordinates (3, …) inside a volume, linear between its voxels."""
    low = index.astype(np.intp)  # they are 0 or more
    share = (index - low).astype(np.float32)
    at, step = np.zeros(index.shape[1:], np.intp), []
    for axis, size in enumerate(volume.shape):
        at = at * size + low[axis]
        step.append((low[axis] + 1 < size) * int(np.prod(volume.shape[axis + 1 :], dtype=np.intp)))
    corners = [at]
    for offset in step:
        corners = [c for corner in corners for c in (corner, corner + offset)]
    parts = [_taken(volume, corner) for corner in corners]
    with np.errstate(invalid="ignore"):
        for axis in (2, 1, 0):
            parts = [a + (b - a) * share[axis] for a, b in zip(parts[::2], parts[1::2])]
        found = parts[0]
        odd = ~np.isfinite(found)
        if odd.any():  # a corner without weight does not count, even where it holds no value
            found[odd] = _weighed([_taken(volume, corner[odd]) for corner in corners], share[:, odd])
    return found


def _taken(volume: np.ndarray, at: np.ndarray) -> np.ndarray:
    if volume.flags.c_contiguous:
        return volume.reshape(-1).take(at).astype(np.float32, copy=False)
    return volume[np.unravel_index(at, volume.shape)].astype(np.float32)


def _weighed(corners: list[np.ndarray], share: np.ndarray) -> np.ndarray:
    found = np.zeros(share.shape[1:], np.float32)
    for n, values in enumerate(corners):
        weight = np.ones(found.shape, np.float32)
        for axis in range(3):
            weight *= share[axis] if n >> (2 - axis) & 1 else 1 - share[axis]
        found += np.where(weight > 0, values * weight, 0)
    return found


def colour_values(found: np.ndarray, low, high, colours, opacity, limits, tint, tint_colour, out: np.ndarray) -> None:
    """Colour sampled values over a picture; see `colouring`."""
    scale = np.float32(255.0 / (high - low)) if high > low else np.float32(0)
    with np.errstate(invalid="ignore"):
        there = (found >= limits[0]) & (found <= limits[1])
        shade = np.clip((found - np.float32(low)) * scale, 0, 255)
    drawn = colours[np.where(there, shade, 0).astype(np.uint8)]
    if opacity < 1:
        drawn = _blended(out, drawn, opacity)
    with np.errstate(invalid="ignore"):
        lit = (found >= tint[0]) & (found <= tint[1])
    if lit.any():
        drawn = np.where(lit, _blended(drawn, np.uint32(tint_colour), 0.45), drawn)
    np.copyto(out, drawn, where=there)


def colour_numbers(numbers: np.ndarray, colours: np.ndarray, fill: float, edges: int, opacity, out: np.ndarray) -> None:
    """Colour sampled label numbers over a picture; see `colouring`."""
    own = colours[numbers]
    there = (numbers != 0) & (own != 0)
    edge = np.zeros(numbers.shape, bool)
    if edges:
        middle, (high, wide) = numbers.astype(np.int32), numbers.shape
        framed = np.pad(middle, edges, constant_values=-1)
        for far in range(1, edges + 1):
            for y, x in ((0, -far), (0, far), (-far, 0), (far, 0)):
                edge |= framed[edges + y : edges + y + high, edges + x : edges + x + wide] != middle
    edge &= there
    if fill > 0:
        np.copyto(out, _blended(out, own, fill * opacity), where=there & ~edge)
    np.copyto(out, own if opacity >= 1 else _blended(out, own, opacity), where=edge)


def colour_colours(found: np.ndarray, opacity: float, out: np.ndarray) -> None:
    """Lay sampled colours over a picture; 0 is nothing."""
    np.copyto(out, found if opacity >= 1 else _blended(out, found, opacity), where=found != 0)


def _blended(under: np.ndarray, over, opacity: float) -> np.ndarray:
    a = int(opacity * 256)
    made = np.uint32(0xFF000000)
    for shift in (16, 8, 0):
        below = (under >> np.uint32(shift)) & np.uint32(255)
        above = (over >> np.uint32(shift)) & np.uint32(255)
        made = made | ((below * np.uint32(256 - a) + above * np.uint32(a)) >> np.uint32(8)) << np.uint32(shift)
    return made.astype(np.uint32) if isinstance(made, np.ndarray) else np.full(under.shape, made, np.uint32)
