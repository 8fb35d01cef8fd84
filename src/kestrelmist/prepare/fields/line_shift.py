"""Volumes whose voxels are shifted along one axis, each by its own distance: as a scan with a field off resonance does
it, and back again."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor

import numpy as np

from ...core.kernel import kernel
from ...core.spline import spline_along, spline_weights


def shifted_back(
    values: np.ndarray, shift: np.ndarray, axis: int, signal: bool = True, how: str = "cubic"
) -> np.ndarray:
    """What stood at each place before it was shifted.

    Parameters
    ----------
    values : array [k, j, i]
        What was found after the shift.
    shift : array [k, j, i]
        By how many voxels each place of the result was shifted, along `axis`.
    axis : int
        0 for i, 1 for j, 2 for k.
    signal : bool
        Whether values are multiplied by how much the place was pressed together or drawn out (P. Jezzard and R. S.
        Balaban, Magn. Reson. Med. 34, 1995).
    how : text
        "cubic" B-spline along the axis, or "linear".

    Returns
    -------
    float32 array [k, j, i]; no value (NaN) where the place was shifted beyond the image, or what is found there has
    none.
    """
    lines, moved = _as_lines(values.astype(np.float32), axis), _as_lines(shift.astype(np.float32), axis)
    there = np.isfinite(lines)
    holes = None if there.all() else ~there
    if holes is not None:
        lines = np.where(there, lines, np.float32(0))
    stretch = _stretch(moved) if signal else np.ones_like(moved)
    if how == "cubic" and lines.shape[2] > 1:
        lines = spline_along(lines)
    out = np.empty(lines.shape, np.float32)
    _in_halves(lines.shape[0], lambda a, b: _back(lines, moved, stretch, how == "cubic", out, a, b))
    if holes is not None:
        gone = np.empty(lines.shape, np.float32)
        marks = holes.astype(np.float32)
        _in_halves(lines.shape[0], lambda a, b: _back(marks, moved, np.ones_like(moved), False, gone, a, b))
        out[gone > 0.5] = np.nan
    return _from_lines(out, axis)


def shifted(values: np.ndarray, shift: np.ndarray, axis: int) -> np.ndarray:
    """Values as they are found after each voxel's content was shifted along an axis: what comes to lie together adds
    up, what goes beyond the image is lost. Arguments as in `shifted_back`; missing values count as 0."""
    lines, moved = _as_lines(np.nan_to_num(values.astype(np.float32)), axis), _as_lines(shift.astype(np.float32), axis)
    out = np.zeros(lines.shape, np.float32)
    _in_halves(lines.shape[0], lambda a, b: _forth(lines, moved, out, a, b))
    return _from_lines(out, axis)


def _as_lines(values: np.ndarray, axis: int) -> np.ndarray:
    """[k, j, i] with the axis (0 for i) last."""
    return np.ascontiguousarray(np.moveaxis(values, 2 - axis, 2))


def _from_lines(lines: np.ndarray, axis: int) -> np.ndarray:
    return np.ascontiguousarray(np.moveaxis(lines, 2, 2 - axis))


def _stretch(moved: np.ndarray) -> np.ndarray:
    """How much longer a voxel is after the shift; never below 0, where places change their order."""
    if moved.shape[2] < 2:
        return np.ones_like(moved)
    return np.maximum(1 + np.gradient(moved, axis=2), 0).astype(np.float32)


def _in_halves(count: int, work) -> None:
    with ThreadPoolExecutor(2) as pool:
        list(pool.map(lambda ends: work(*ends), ((0, count // 2), (count // 2, count))))


@kernel
def _back(lines, moved, stretch, cubic, out, first, last):
    n = lines.shape[2]
    for k in range(first, last):
        for j in range(lines.shape[1]):
            line = lines[k, j]
            for i in range(n):
                x = np.float32(i) + moved[k, j, i]
                if not (-0.5 <= x < n - 0.5):
                    out[k, j, i] = np.nan
                    continue
                x = min(max(x, np.float32(0.0)), np.float32(n - 1))
                a = int(x)
                t = np.float32(x - a)
                b = min(a + 1, n - 1)
                if cubic and n > 1:
                    w0, w1, w2, w3 = spline_weights(t)
                    # mirrored at the ends, as the coefficients are
                    before = a - 1 if a > 0 else 1
                    after = a + 1 if a + 1 < n else n - 2
                    beyond = a + 2 if a + 2 < n else max(2 * n - 4 - a, 0)
                    value = w0 * line[before] + w1 * line[a] + w2 * line[after] + w3 * line[beyond]
                else:
                    value = (np.float32(1.0) - t) * line[a] + t * line[b]
                out[k, j, i] = value * stretch[k, j, i]


@kernel
def _forth(lines, moved, out, first, last):
    n = lines.shape[2]
    parts = 4  # places inside a voxel, so that no gaps are left where it is drawn out
    for k in range(first, last):
        for j in range(lines.shape[1]):
            for s in range(n * parts):
                x = (s + 0.5) / parts - 0.5
                a = min(max(int(np.floor(x)), 0), n - 1)
                b = min(a + 1, n - 1)
                t = min(max(x - a, 0.0), 1.0)
                value = ((1.0 - t) * lines[k, j, a] + t * lines[k, j, b]) / parts
                to = x + (1.0 - t) * moved[k, j, a] + t * moved[k, j, b]
                low = np.floor(to)
                share = to - low
                p = int(low)
                if 0 <= p < n:
                    out[k, j, p] += (1.0 - share) * value
                if 0 <= p + 1 < n:
                    out[k, j, p + 1] += share * value
