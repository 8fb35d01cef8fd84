"""Sampling a layer straight at the screen's pixels: what lies under each pixel of a view.

One affine leads from pixel to voxel, whatever the tilt and zoom. Where it runs along the grid (the usual case), the
part of the slice in view is lifted out of the volume first, because a sagittal slice is a voxel here and a voxel there:
one pass that reads each once is quicker than many that jump; after that the interpolation falls apart into one weight a
row and one a column. Tilted grids take a general kernel. Kernels release the interpreter lock and work on bands of
rows, so that a second core can take half of them. Small pictures, and the first ones before the kernels are loaded, are
sampled by numpy (see `plain`).
"""

from __future__ import annotations

import numpy as np

from ..core import kernel as kernels
from ..core.image import Image
from ..core.kernel import kernel, unmarked
from ..core.labels import LabelMap
from . import bent, plain
from .colour_mixing import plane_colours, span, volume_colours
from .lifting import SMALL, in_bands, lifted
from .view import View


def compiled_for(view: View) -> bool:
    """Whether a view is drawn by kernels: they are loaded, or the view is worth loading them for and nobody waits."""
    return kernels.ready() and view.width * view.height > SMALL


def sample_values(view: View, image: Image, smooth: bool) -> np.ndarray:
    """Values under a view's pixels, float32 (height, width), NaN where there are none. The first picture of a window
    is made of nearest voxels: a smooth one by numpy would take longer than the kernels take to come."""
    if image.through is not None:
        return bent.values(view, image, smooth, compiled_for(view))
    shape, frame = (view.height, view.width), view.voxel_frame(image.space)
    plane = lifted(image.kji, frame, shape, smooth)
    if not compiled_for(view):
        rough = kernels.expected() and view.width * view.height > SMALL
        return plain.values(plane, image.kji, frame, shape, smooth and not rough)
    out = np.empty(shape, np.float32)
    if plane is not None:
        columns, rows = plane.columns(shape[1]), plane.rows(shape[0])
        in_bands(shape, lambda a, b: _plane_values(plane.values, columns, rows, smooth, out, a, b))
    else:
        in_bands(shape, lambda a, b: _values(unmarked(image.kji), frame, smooth, out, a, b))
    return out


def sample_numbers(view: View, labels: LabelMap) -> np.ndarray:
    """Label numbers under a view's pixels, uint16 (height, width), 0 outside."""
    if labels.through is not None:
        return bent.nearest(view, labels.kji, labels.space, labels.through, np.uint16, compiled_for(view))
    return _nearest(view, labels.kji, view.voxel_frame(labels.space), np.uint16)


def sample_colours(view: View, image: Image, smooth: bool) -> np.ndarray:
    """Colours under a view's pixels, packed uint32 (height, width), 0 outside. Of a view along the grid, the
    nearest of two slices is taken."""
    if image.through is not None:
        return bent.nearest(view, image.kji, image.space, image.through, np.uint32, compiled_for(view))
    shape, frame = (view.height, view.width), view.voxel_frame(image.space)
    if not smooth:
        return _nearest(view, image.kji, frame, np.uint32)
    plane = lifted(image.kji, frame, shape, False)
    if not compiled_for(view):
        return plain.colours(plane, image.kji, frame, shape)
    out = np.empty(shape, np.uint32)
    if plane is not None:
        columns, rows = plane.columns(shape[1]), plane.rows(shape[0])
        in_bands(shape, lambda a, b: plane_colours(plane.values, columns, rows, out, a, b))
    else:
        in_bands(shape, lambda a, b: volume_colours(unmarked(image.kji), frame, out, a, b))
    return out


def _nearest(view: View, volume: np.ndarray, frame: np.ndarray, dtype) -> np.ndarray:
    shape = (view.height, view.width)
    plane = lifted(volume, frame, shape, False)
    if not compiled_for(view):
        return plain.nearest(plane, volume, frame, shape, dtype)
    out = np.empty(shape, dtype)
    if plane is not None:
        columns, rows = plane.columns(shape[1]), plane.rows(shape[0])
        in_bands(shape, lambda a, b: _plane_nearest(plane.values, columns, rows, out, a, b))
    else:
        in_bands(shape, lambda a, b: _volume_nearest(unmarked(volume), frame, out, a, b))
    return out


@kernel(fastmath={"contract", "reassoc", "nsz", "arcp"})
def _plane_values(plane, columns, rows, smooth, out, top, bottom):
    """Values for rows `top` to `bottom` of a picture from a lifted slice."""
    width = out.shape[1]
    left, right, nearest = columns[0].astype(np.int32), columns[1].astype(np.int32), columns[3].astype(np.int32)
    weights = columns[2].astype(np.float32)
    first, last = width, -1
    for x in range(width):
        if nearest[x] >= 0:
            first, last = min(first, min(left[x], nearest[x])), max(last, max(right[x], nearest[x]))
    line = np.empty(plane.shape[1], np.float32)
    for y in range(top, bottom):
        if rows[3, y] < 0 or last < 0:
            out[y, :] = np.nan
            continue
        if smooth:
            j, j1, w = int(rows[0, y]), int(rows[1, y]), np.float32(rows[2, y])
            for x in range(first, last + 1):
                a = np.float32(plane[j, x])
                line[x] = a + (np.float32(plane[j1, x]) - a) * w
        else:
            j = int(rows[3, y])
            for x in range(first, last + 1):
                line[x] = np.float32(plane[j, x])
        for x in range(width):
            if nearest[x] < 0:
                out[y, x] = np.nan
            elif smooth:
                a = line[left[x]]
                out[y, x] = a + (line[right[x]] - a) * weights[x]
            else:
                out[y, x] = line[nearest[x]]


@kernel
def _plane_nearest(plane, columns, rows, out, top, bottom):
    nearest = columns[3].astype(np.int64)
    for y in range(top, bottom):
        if rows[3, y] < 0:
            out[y, :] = 0
            continue
        j = int(rows[3, y])
        for x in range(out.shape[1]):
            out[y, x] = plane[j, nearest[x]] if nearest[x] >= 0 else 0


@kernel(fastmath={"contract", "reassoc", "nsz", "arcp"})
def _values(volume, frame, smooth, out, top, bottom):
    nk, nj, ni = volume.shape
    width = out.shape[1]
    for y in range(top, bottom):
        oi = frame[0, 0] + frame[2, 0] * y
        oj = frame[0, 1] + frame[2, 1] * y
        ok = frame[0, 2] + frame[2, 2] * y
        a0, b0 = span(oi, frame[1, 0], ni, width)
        a1, b1 = span(oj, frame[1, 1], nj, width)
        a2, b2 = span(ok, frame[1, 2], nk, width)
        first, last = max(a0, a1, a2), min(b0, b1, b2)
        if last <= first:
            first = last = 0
        out[y, :first] = np.nan
        out[y, last:] = np.nan
        for x in range(first, last):
            fi, fj, fk = oi + frame[1, 0] * x, oj + frame[1, 1] * x, ok + frame[1, 2] * x
            if smooth:
                fi, fj, fk = min(max(fi, 0.0), ni - 1.0), min(max(fj, 0.0), nj - 1.0), min(max(fk, 0.0), nk - 1.0)
                i, j, k = int(fi), int(fj), int(fk)
                wi, wj, wk = np.float32(fi - i), np.float32(fj - j), np.float32(fk - k)
                i1, j1 = min(i + 1, ni - 1), min(j + 1, nj - 1)
                p, q = np.float32(volume[k, j, i]), np.float32(volume[k, j, i1])
                r, s = np.float32(volume[k, j1, i]), np.float32(volume[k, j1, i1])
                p += (q - p) * wi
                r += (s - r) * wi
                value = p + (r - p) * wj
                if wk > np.float32(1e-4):
                    k1 = min(k + 1, nk - 1)
                    p, q = np.float32(volume[k1, j, i]), np.float32(volume[k1, j, i1])
                    r, s = np.float32(volume[k1, j1, i]), np.float32(volume[k1, j1, i1])
                    p += (q - p) * wi
                    r += (s - r) * wi
                    value += (p + (r - p) * wj - value) * wk
            else:
                i = min(max(int(np.floor(fi + 0.5)), 0), ni - 1)
                j = min(max(int(np.floor(fj + 0.5)), 0), nj - 1)
                k = min(max(int(np.floor(fk + 0.5)), 0), nk - 1)
                value = np.float32(volume[k, j, i])
            out[y, x] = value


@kernel
def _volume_nearest(volume, frame, out, top, bottom):
    nk, nj, ni = volume.shape
    width = out.shape[1]
    for y in range(top, bottom):
        oi = frame[0, 0] + frame[2, 0] * y
        oj = frame[0, 1] + frame[2, 1] * y
        ok = frame[0, 2] + frame[2, 2] * y
        a0, b0 = span(oi, frame[1, 0], ni, width)
        a1, b1 = span(oj, frame[1, 1], nj, width)
        a2, b2 = span(ok, frame[1, 2], nk, width)
        first, last = max(a0, a1, a2), min(b0, b1, b2)
        if last <= first:
            first = last = 0
        out[y, :first] = 0
        out[y, last:] = 0
        for x in range(first, last):
            i = min(int(oi + frame[1, 0] * x + 0.5), ni - 1)
            j = min(int(oj + frame[1, 1] * x + 0.5), nj - 1)
            k = min(int(ok + frame[1, 2] * x + 0.5), nk - 1)
            out[y, x] = volume[k, j, i]
