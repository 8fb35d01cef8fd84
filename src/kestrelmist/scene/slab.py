"""A thick slab in a pane: the highest, lowest or mean values of some mm across the plane in place of one slice."""

from __future__ import annotations

import math
import weakref
from collections import OrderedDict
from dataclasses import replace
from threading import Lock

import numpy as np

from ..core.halves import in_halves
from ..core.image import Image
from ..core.kernel import kernel, unmarked
from ..core.quantity import pretty_unit
from ..core.space import Space
from .layer import ImageLook
from .sampling import sample_values
from .view import View

WAYS = ("highest", "lowest", "mean")
KEPT = 6
"""Slabs of which the slice that they come to is kept."""
MOST = 24
"""Planes at most of an image that is seen through a mapping."""
_known: OrderedDict[tuple, tuple[weakref.ref[Image], Image]] = OrderedDict()
_lock = Lock()


def slab_values(view: View, image: Image, thick: float, way: str, smooth: bool) -> np.ndarray:
    """Values under a view's pixels of a slab, float32 (height, width), NaN where there are none.

    Along the grid, all slices count whose middles lie within the slab, the nearest one at least; tilted in it, all
    voxels that lines across the plane meet.

    Parameters
    ----------
    thick : mm
    way : "highest", "lowest" or "mean"
    """
    axis = _along_grid(view, image)
    if image.through is not None:
        return _planes(view, image, thick, way, smooth)
    if axis is None:
        return _askew(view, image, thick, way, smooth)
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
        if found is not None and found[0]() is image:
            _known.move_to_end(key)
            return found[1]
    kji, along = unmarked(image.kji), 2 - axis
    across = np.moveaxis(kji, along, 0)
    values = np.empty(across.shape[1:], np.float32)
    in_halves(len(values), lambda a, b: _project(across, first, last, WAYS.index(way), a, b, values), kji.size)
    affine = image.space.affine.copy()
    affine[:3, 3] += affine[:3, axis] * (first + last) / 2
    made = _flat(np.expand_dims(values, along), affine, image)
    with _lock:
        # held weakly: what is no longer open is not kept in memory by a slab of it
        _known[key] = weakref.ref(image), made
        while len(_known) > KEPT:
            _known.popitem(last=False)
    return made


def _flat(kji: np.ndarray, affine: np.ndarray, of: Image) -> Image:
    """Values of a slice where it lies in the world of an image."""
    i, j, k = kji.shape[::-1]
    return Image(kji.T, replace(of.space, shape=(i, j, k), affine=affine), of.name, unit=of.unit)


def _askew(view: View, image: Image, thick: float, way: str, smooth: bool) -> np.ndarray:
    """The same where the plane is tilted in the grid: true voxels that lines across it meet, in steps of a voxel. The
    lines need not stand closer than half a voxel."""
    space = image.space
    voxel = 1 / float(np.abs(space.inverse[:3, :3] @ view.normal).max())
    away = (space.corners() - np.asarray(view.centre, float)) @ view.normal
    low, high = max(-thick / 2, float(away.min())), min(thick / 2, float(away.max()))
    if high < low:
        return np.full((view.height, view.width), np.nan, np.float32)
    pixel = max(view.pixel, min(space.spacing) / 2)
    times, rough = pixel / view.pixel, view
    if times > 1:
        size = (math.ceil(n / times) + 2 for n in (view.width, view.height))
        rough = view.moved(pixel=pixel, **dict(zip(("width", "height"), size)))
    found = np.empty((rough.height, rough.width), np.float32)
    count = math.ceil((high - low) / voxel) + 1
    step = view.normal * ((high - low) / max(1, count - 1))
    turn = space.inverse[:3, :3]
    first = space.to_voxel(rough.corner + view.normal * low)
    frame = np.array([first, turn @ rough.right, turn @ rough.down, turn @ step])
    kji, mode = unmarked(image.kji), WAYS.index(way)
    in_halves(rough.height, lambda a, b: _met(kji, frame, count, mode, a, b, found), found.size * count)
    if rough is view:
        return found
    affine = np.eye(4)
    affine[:3, :3] = np.stack((rough.right, rough.down, rough.normal * pixel), axis=1)
    affine[:3, 3] = rough.corner
    return sample_values(view, _flat(found[None], affine, image), smooth)


def _planes(view: View, image: Image, thick: float, way: str, smooth: bool) -> np.ndarray:
    """The same of an image that is seen through a mapping: planes a voxel apart, or so many as `slab_words` tells."""
    count = planes_needed(image.space, thick)
    found = []
    for at in np.linspace(-thick / 2, thick / 2, min(MOST, count)):
        centre = np.asarray(view.centre, float) + view.normal * at
        found.append(sample_values(view.moved(centre=tuple(centre)), image, smooth)[None])
    several = np.ascontiguousarray(np.concatenate(found))
    values = np.empty(several.shape[1:], np.float32)
    last, mode = len(found) - 1, WAYS.index(way)
    in_halves(len(values), lambda a, b: _project(several, 0, last, mode, a, b, values), several.size)
    return values


def planes_needed(space: Space, thick: float) -> int:
    """Planes of a slab of so many mm that pass no slice over."""
    return math.ceil(thick / min(space.spacing)) + 1


def slab_words(look: ImageLook, image: Image, unit: str) -> str:
    """What a slab shows: "highest of 8 mm"; "" of a slice, and of an image of one."""
    if not look.slab > 0 or image.space.flat_axis is not None or image.colour:
        return ""
    thick = f"{look.slab:g} {pretty_unit(unit)}"
    few = image.through is not None and planes_needed(image.space, look.slab) > MOST
    return f"{look.slab_way} of {MOST} planes in {thick}" if few else f"{look.slab_way} of {thick}"


@kernel
def _met(volume, frame, count, mode, top, bottom, out):
    """Rows `top` to `bottom` of the highest, lowest or mean values of voxels that lines meet. `frame` has the voxel
    coordinates of the first line's beginning, and the steps to the right, down and along a line."""
    nk, nj, ni = volume.shape
    for y in range(top, bottom):
        for x in range(out.shape[1]):
            i = frame[0, 0] + frame[1, 0] * x + frame[2, 0] * y + 0.5
            j = frame[0, 1] + frame[1, 1] * x + frame[2, 1] * y + 0.5
            k = frame[0, 2] + frame[1, 2] * x + frame[2, 2] * y + 0.5
            total, n = 0.0, 0
            for at in range(count):
                u, v, w = i + frame[3, 0] * at, j + frame[3, 1] * at, k + frame[3, 2] * at
                if u < 0.0 or v < 0.0 or w < 0.0 or u >= ni or v >= nj or w >= nk:
                    continue
                value = float(volume[int(w), int(v), int(u)])
                if value == value:
                    total = value if n == 0 else _with(total, value, mode)
                    n += 1
            out[y, x] = np.nan if n == 0 else (total / n if mode == 2 else total)


@kernel
def _project(values, first, last, mode, start, end, out):
    """Rows `start` to `end` of the highest, lowest or mean values along the first axis; what is no number counts
    not."""
    for y in range(start, end):
        for x in range(out.shape[1]):
            total, n = 0.0, 0
            for at in range(first, last + 1):
                value = float(values[at, y, x])
                if value == value:
                    total = value if n == 0 else _with(total, value, mode)
                    n += 1
            out[y, x] = np.nan if n == 0 else (total / n if mode == 2 else total)


@kernel
def _with(total, value, mode):
    if mode == 0:
        return max(total, value)
    if mode == 1:
        return min(total, value)
    return total + value
