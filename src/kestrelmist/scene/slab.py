"""A thick slab in a pane: the highest, lowest or mean values of some mm across the plane in place of one slice."""

from __future__ import annotations

import math
from collections import OrderedDict
from dataclasses import replace
from threading import Lock

import numpy as np

from ..core.halves import in_halves
from ..core.image import Image
from ..core.kernel import kernel, unmarked
from .sampling import sample_values
from .view import View

WAYS = ("highest", "lowest", "mean")
KEPT = 6
"""Slabs of which the slice that they come to is kept."""
MOST = 12
"""Planes of a slab that does not run along the grid."""
_known: OrderedDict[tuple, tuple[Image, Image]] = OrderedDict()
_lock = Lock()


def slab_values(view: View, image: Image, thick: float, way: str, smooth: bool) -> np.ndarray:
    """Values under a view's pixels of a slab, float32 (height, width), NaN where there are none.

    Along the grid, all slices count whose middles lie within the slab, the nearest one at least. Across it, planes a
    voxel apart do, twelve at most.

    Parameters
    ----------
    thick : mm
    way : "highest", "lowest" or "mean"
    """
    axis = _along_grid(view, image)
    if axis is None or image.through is not None:
        return _planes(view, image, thick, way, smooth)
    space = image.space
    step = space.spacing[axis]
    middle = float(space.to_voxel(view.centre)[axis])
    half = thick / 2 / step
    first, last = math.ceil(middle - half - 1e-9), math.floor(middle + half + 1e-9)
    if last < first:
        first = last = round(middle)
    first, last = max(first, 0), min(last, space.shape[axis] - 1)
    if last < first:
        return np.full((view.height, view.width), np.nan, np.float32)
    flat = _one_slice(image, axis, first, last, way)
    at = (first + last) / 2
    centre = np.asarray(view.centre, float) + space.affine[:3, axis] * (at - middle)
    return sample_values(view.moved(centre=tuple(centre)), flat, smooth)


def _along_grid(view: View, image: Image) -> int | None:
    """The grid's axis that a view stands across; None when it stands across none."""
    across = image.space.inverse[:3, :3] @ view.normal
    parts = np.abs(across * np.array(image.space.spacing))
    axis = int(parts.argmax())
    rest = [image.space.affine[:3, n] / image.space.spacing[n] for n in range(3) if n != axis]
    return axis if all(abs(float(one @ view.normal)) < 1e-6 for one in rest) else None


def _one_slice(image: Image, axis: int, first: int, last: int, way: str) -> Image:
    """An image of one slice, of the values of several."""
    key = (id(image), id(image.kji), axis, first, last, way)
    with _lock:
        found = _known.get(key)
        if found is not None and found[0] is image:
            _known.move_to_end(key)
            return found[1]
    kji, along = unmarked(image.kji), 2 - axis
    shape = list(kji.shape)
    shape[along] = 1
    values = np.empty(shape, np.float32)
    mode = WAYS.index(way) if way in WAYS else 0
    count = shape[0] if along else shape[1]
    in_halves(count, lambda a, b: _project(kji, along, first, last, mode, a, b, values), kji.size)
    affine = image.space.affine.copy()
    affine[:3, 3] += affine[:3, axis] * (first + last) / 2
    size = list(image.space.shape)
    size[axis] = 1
    space = replace(image.space, shape=tuple(size), affine=affine)  # type: ignore[arg-type]
    made = Image(values.T, space, image.name, unit=image.unit)
    with _lock:
        _known[key] = image, made
        while len(_known) > KEPT:
            _known.popitem(last=False)
    return made


def _planes(view: View, image: Image, thick: float, way: str, smooth: bool) -> np.ndarray:
    count = max(1, min(MOST, round(thick / min(image.space.spacing)) + 1))
    found = []
    for at in np.linspace(-thick / 2, thick / 2, count):
        centre = np.asarray(view.centre, float) + view.normal * at
        found.append(sample_values(view.moved(centre=tuple(centre)), image, smooth))
    several = np.stack(found)
    with np.errstate(all="ignore"):
        there = np.isfinite(several)
        if way == "mean":
            total = np.where(there, several, 0).sum(0) / np.maximum(there.sum(0), 1)
        elif way == "lowest":
            total = np.where(there, several, np.inf).min(0)
        else:
            total = np.where(there, several, -np.inf).max(0)
    return np.where(there.any(0), total, np.nan).astype(np.float32)


@kernel
def _project(values, along, first, last, mode, start, end, out):
    """Rows `start` to `end` of the highest, lowest or mean values along an axis of [k, j, i]; what is no number counts
    not."""
    nk, nj, ni = values.shape
    if along == 0:
        for j in range(start, end):
            for i in range(ni):
                total, n = 0.0, 0
                for k in range(first, last + 1):
                    value = float(values[k, j, i])
                    if value == value:
                        total = value if n == 0 else _with(total, value, mode)
                        n += 1
                out[0, j, i] = np.nan if n == 0 else (total / n if mode == 2 else total)
        return
    for k in range(start, end):
        if along == 1:
            for i in range(ni):
                total, n = 0.0, 0
                for j in range(first, last + 1):
                    value = float(values[k, j, i])
                    if value == value:
                        total = value if n == 0 else _with(total, value, mode)
                        n += 1
                out[k, 0, i] = np.nan if n == 0 else (total / n if mode == 2 else total)
        else:
            for j in range(nj):
                total, n = 0.0, 0
                for i in range(first, last + 1):
                    value = float(values[k, j, i])
                    if value == value:
                        total = value if n == 0 else _with(total, value, mode)
                        n += 1
                out[k, j, 0] = np.nan if n == 0 else (total / n if mode == 2 else total)


@kernel
def _with(total, value, mode):
    if mode == 0:
        return max(total, value)
    if mode == 1:
        return min(total, value)
    return total + value
