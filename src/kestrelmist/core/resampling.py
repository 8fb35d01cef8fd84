"""Values of a volume at the voxels of another grid: nearest, linear, cubic B-spline, windowed sinc.

Kernels release the interpreter lock and work on bands of slices, so that two cores share the work. Nothing is taken
from beyond the outermost voxels but their own half; what lies further out has no value.
"""

from __future__ import annotations

import os
from concurrent.futures import ThreadPoolExecutor
from typing import Literal

import numpy as np

from .kernel import kernel
from .progress import Progress, silent
from .space import Space
from .spline import spline_coefficients, spline_weights

How = Literal["nearest", "linear", "cubic", "sinc"]
REACH = 4
"""Voxels to each side that the windowed sinc takes (Lanczos)."""
BAND, NARROW = 8, 1
"""Slices that are worked on between two looks at the cancel button, a core; of the sinc, which takes 512 voxels."""


def frame_between(source: Space, target: Space) -> np.ndarray:
    """Voxel coordinates (i, j, k) in `source` of voxel (0, 0, 0) of `target` and of steps along its i, j, k, (3, 4):
    the steps are the first three columns, the start is the last."""
    return (source.inverse @ target.affine)[:3]


def resampled(
    values: np.ndarray,
    frame: np.ndarray,
    shape: tuple[int, int, int],
    how: How = "linear",
    outside: float = np.nan,
    progress: Progress | None = None,
) -> np.ndarray:
    """A volume at the voxels of another grid.

    Parameters
    ----------
    values : array [k, j, i]
        NaN and infinite values count as missing: what lies nearer to one of them than to any other has no value.
    frame : array (3, 4)
        See `frame_between`.
    shape : tuple
        Voxels of the result along i, j, k.
    how : text
        "cubic" is the interpolating cubic B-spline (M. Unser, IEEE Signal Process. Mag. 16, 1999), "sinc" a sinc with
        a Lanczos window of four voxels to each side (C. Lanczos, Applied Analysis, 1956).
    outside : number
        What stands where there is no value.

    Returns
    -------
    float32 array [k, j, i]; of "nearest" the number type of `values`.
    """
    progress = progress or silent()
    out_shape = tuple(shape[::-1])
    if how == "nearest":
        kind = values.dtype if np.isfinite(outside) or values.dtype.kind == "f" else np.dtype(np.float32)
        out = np.empty(out_shape, kind)
        _in_slices(out_shape[0], lambda a, b: _nearest(values, frame, out, kind.type(outside), a, b), progress)
        return out
    missing = None
    if values.dtype.kind == "f" and not _sums_up(values) and not (there := np.isfinite(values)).all():
        missing = np.ascontiguousarray(~there)
        values = _filled(values, there)
    out, given = np.empty(out_shape, np.float32), np.float32(outside)
    values = np.ascontiguousarray(values)
    if how == "cubic":
        values = spline_coefficients(values)
        _in_slices(out_shape[0], lambda a, b: _cubic(values, frame, out, given, a, b), progress)
    elif how == "sinc":
        table = _lanczos_table()
        _in_slices(out_shape[0], lambda a, b: _sinc(values, frame, table, out, given, a, b), progress, NARROW)
    else:
        _in_slices(out_shape[0], lambda a, b: _linear(values, frame, out, given, a, b), progress)
    if missing is not None:
        gone = np.empty(out_shape, np.uint8)
        holes = missing.view(np.uint8)
        _in_slices(out_shape[0], lambda a, b: _nearest(holes, frame, gone, np.uint8(0), a, b), silent())
        out[gone > 0] = given
    return out


def _sums_up(values: np.ndarray) -> bool:
    """Whether the sum is finite, as it can only be when every value is: half the time of looking at each."""
    with np.errstate(over="ignore", invalid="ignore"):
        return bool(np.isfinite(values.sum()))


def _filled(values: np.ndarray, there: np.ndarray) -> np.ndarray:
    """Values with the missing ones taken from the nearest that is there; zeros when none is."""
    from scipy import ndimage

    if not there.any():
        return np.zeros_like(values)
    places = ndimage.distance_transform_edt(~there, return_distances=False, return_indices=True)
    return values[tuple(places)]


def _in_slices(count: int, work, progress: Progress, band: int = BAND) -> None:
    """Run `work(first, last)` over slices, two bands at a time."""
    bands = [(a, min(a + band, count)) for a in range(0, count, band)]

    def do(band: tuple[int, int]) -> None:
        if not progress.cancelled:  # what waits its turn is let go
            work(*band)

    with ThreadPoolExecutor(min(2, os.cpu_count() or 1)) as pool:
        for n, _ in enumerate(pool.map(do, bands)):
            progress.at(n / len(bands), "Resampling")


def _lanczos_table(steps: int = 1024) -> np.ndarray:
    """Weights of the windowed sinc for `steps` + 1 places between two voxels, (steps + 1, 2 REACH), each row of sum
    1."""
    share = np.linspace(0.0, 1.0, steps + 1)[:, None]
    away = share + REACH - 1 - np.arange(2 * REACH)[None, :]
    weights = np.sinc(away) * np.sinc(away / REACH)
    return (weights / weights.sum(1, keepdims=True)).astype(np.float32)


@kernel(inline="always")
def _inside(f, size):
    return -0.5 <= f < size - 0.5


@kernel(inline="always")
def _mirrored(n, size):
    """An index beyond the ends, mirrored about the outermost voxel."""
    if size == 1:
        return 0
    if n < 0:
        n = -n
    if n >= size:
        n = 2 * (size - 1) - n
    return min(max(n, 0), size - 1)


@kernel
def _nearest(values, frame, out, outside, first, last):
    nk, nj, ni = values.shape
    for k in range(first, last):
        for j in range(out.shape[1]):
            for i in range(out.shape[2]):
                x = frame[0, 0] * i + frame[0, 1] * j + frame[0, 2] * k + frame[0, 3]
                y = frame[1, 0] * i + frame[1, 1] * j + frame[1, 2] * k + frame[1, 3]
                z = frame[2, 0] * i + frame[2, 1] * j + frame[2, 2] * k + frame[2, 3]
                if _inside(x, ni) and _inside(y, nj) and _inside(z, nk):
                    out[k, j, i] = values[int(np.floor(z + 0.5)), int(np.floor(y + 0.5)), int(np.floor(x + 0.5))]
                else:
                    out[k, j, i] = outside


@kernel(inline="always")
def _run(start, step, low, high, first, last):
    """Which of the steps `first` to `last` of a row lie within low … high."""
    if step == 0.0:
        return (first, last) if low <= start <= high else (first, first)
    a, b = (low - start) / step, (high - start) / step
    if step < 0.0:
        a, b = b, a
    a, b = min(max(np.ceil(a), first), last), min(max(np.floor(b) + 1.0, first), last)
    return int(a), int(max(a, b))


@kernel(inline="always")
def _between(flat, x, y, z, a, b, c, ni, nj, di, dj, dk):
    """Linear between the voxel a, b, c of a volume laid out flat, and those that lie di, dj, dk values further on."""
    u, v, w = np.float32(x - a), np.float32(y - b), np.float32(z - c)
    # unsigned: nobody needs to look whether it counts from the end
    n = np.uintp((c * nj + b) * ni + a)
    m = n + dk
    p, q, r, s = np.float32(flat[n]), np.float32(flat[n + dj]), np.float32(flat[m]), np.float32(flat[m + dj])
    p += (np.float32(flat[n + di]) - p) * u
    q += (np.float32(flat[n + dj + di]) - q) * u
    r += (np.float32(flat[m + di]) - r) * u
    s += (np.float32(flat[m + dj + di]) - s) * u
    p += (q - p) * v
    r += (s - r) * v
    return p + (r - p) * w


@kernel(fastmath={"contract", "reassoc", "nsz", "arcp"})
def _linear(values, frame, out, outside, first, last):
    nk, nj, ni = values.shape
    flat = values.reshape(-1)
    wide, small = out.shape[2], 1e-6
    one, row_long, plane_large, none = np.uintp(1), np.uintp(ni), np.uintp(ni * nj), np.uintp(0)
    dx, dy, dz = frame[0, 0], frame[1, 0], frame[2, 0]
    for k in range(first, last):
        for j in range(out.shape[1]):
            x0 = frame[0, 1] * j + frame[0, 2] * k + frame[0, 3]
            y0 = frame[1, 1] * j + frame[1, 2] * k + frame[1, 3]
            z0 = frame[2, 1] * j + frame[2, 2] * k + frame[2, 3]
            # the part of the row that needs no look at the ends of the volume
            begin, end = _run(x0, dx, small, ni - 1 - small, 0, wide)
            begin, end = _run(y0, dy, small, nj - 1 - small, begin, end)
            begin, end = _run(z0, dz, small, nk - 1 - small, begin, end)
            row = out[k, j]
            for i in range(begin, end):
                x, y, z = x0 + dx * i, y0 + dy * i, z0 + dz * i
                row[i] = _between(flat, x, y, z, int(x), int(y), int(z), ni, nj, one, row_long, plane_large)
            for n in range(begin + wide - end):
                i = n if n < begin else n - begin + end
                x, y, z = x0 + dx * i, y0 + dy * i, z0 + dz * i
                if not (_inside(x, ni) and _inside(y, nj) and _inside(z, nk)):
                    row[i] = outside
                    continue
                x, y, z = min(max(x, 0.0), ni - 1.0), min(max(y, 0.0), nj - 1.0), min(max(z, 0.0), nk - 1.0)
                a, b, c = int(x), int(y), int(z)
                di = one if a + 1 < ni else none
                dj = row_long if b + 1 < nj else none
                dk = plane_large if c + 1 < nk else none
                row[i] = _between(flat, x, y, z, a, b, c, ni, nj, di, dj, dk)


@kernel(fastmath={"contract", "reassoc", "nsz", "arcp"})
def _cubic(values, frame, out, outside, first, last):
    nk, nj, ni = values.shape
    for k in range(first, last):
        for j in range(out.shape[1]):
            for i in range(out.shape[2]):
                x = frame[0, 0] * i + frame[0, 1] * j + frame[0, 2] * k + frame[0, 3]
                y = frame[1, 0] * i + frame[1, 1] * j + frame[1, 2] * k + frame[1, 3]
                z = frame[2, 0] * i + frame[2, 1] * j + frame[2, 2] * k + frame[2, 3]
                if not (_inside(x, ni) and _inside(y, nj) and _inside(z, nk)):
                    out[k, j, i] = outside
                    continue
                x, y, z = min(max(x, 0.0), ni - 1.0), min(max(y, 0.0), nj - 1.0), min(max(z, 0.0), nk - 1.0)
                a, b, c = int(x), int(y), int(z)
                u0, u1, u2, u3 = spline_weights(np.float32(x - a))
                v0, v1, v2, v3 = spline_weights(np.float32(y - b))
                w0, w1, w2, w3 = spline_weights(np.float32(z - c))
                total = np.float32(0.0)
                if 0 < a < ni - 2 and 0 < b < nj - 2 and 0 < c < nk - 2:
                    for n in range(4):
                        w = w0 if n == 0 else w1 if n == 1 else w2 if n == 2 else w3
                        plane = values[c - 1 + n]
                        part = np.float32(0.0)
                        for m in range(4):
                            v = v0 if m == 0 else v1 if m == 1 else v2 if m == 2 else v3
                            row = plane[b - 1 + m]
                            part += v * (u0 * row[a - 1] + u1 * row[a] + u2 * row[a + 1] + u3 * row[a + 2])
                        total += w * part
                else:
                    a0, a1, a2, a3 = _mirrored(a - 1, ni), a, _mirrored(a + 1, ni), _mirrored(a + 2, ni)
                    for n in range(4):
                        w = w0 if n == 0 else w1 if n == 1 else w2 if n == 2 else w3
                        kk = _mirrored(c - 1 + n, nk)
                        for m in range(4):
                            v = v0 if m == 0 else v1 if m == 1 else v2 if m == 2 else v3
                            row = values[kk, _mirrored(b - 1 + m, nj)]
                            total += w * v * (u0 * row[a0] + u1 * row[a1] + u2 * row[a2] + u3 * row[a3])
                out[k, j, i] = total


@kernel(fastmath={"contract", "reassoc", "nsz", "arcp"})
def _sinc(values, frame, table, out, outside, first, last):
    nk, nj, ni = values.shape
    steps, wide = table.shape[0] - 1, table.shape[1]
    reach = wide // 2
    for k in range(first, last):
        for j in range(out.shape[1]):
            for i in range(out.shape[2]):
                x = frame[0, 0] * i + frame[0, 1] * j + frame[0, 2] * k + frame[0, 3]
                y = frame[1, 0] * i + frame[1, 1] * j + frame[1, 2] * k + frame[1, 3]
                z = frame[2, 0] * i + frame[2, 1] * j + frame[2, 2] * k + frame[2, 3]
                if not (_inside(x, ni) and _inside(y, nj) and _inside(z, nk)):
                    out[k, j, i] = outside
                    continue
                a, b, c = int(np.floor(x)), int(np.floor(y)), int(np.floor(z))
                u = table[int((x - a) * steps + 0.5)]
                v = table[int((y - b) * steps + 0.5)]
                w = table[int((z - c) * steps + 0.5)]
                total = np.float32(0.0)
                for n in range(wide if nk > 1 else 1):
                    plane = values[_mirrored(c + 1 - reach + n, nk)]
                    part = np.float32(0.0)
                    for m in range(wide if nj > 1 else 1):
                        row = plane[_mirrored(b + 1 - reach + m, nj)]
                        line = np.float32(0.0)
                        for p in range(wide if ni > 1 else 1):
                            line += (u[p] if ni > 1 else np.float32(1.0)) * row[_mirrored(a + 1 - reach + p, ni)]
                        part += (v[m] if nj > 1 else np.float32(1.0)) * line
                    total += (w[n] if nk > 1 else np.float32(1.0)) * part
                out[k, j, i] = total
