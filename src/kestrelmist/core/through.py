"""Images seen, and worked out on another grid, through a mapping between two worlds."""

from __future__ import annotations

from copy import copy
from typing import Literal

import numpy as np

from .errors import Trouble
from .image import Image
from .labels import LabelMap
from .mapping import Mapping
from .placement import Placement
from .progress import Progress, silent
from .resampling import How, resampled
from .space import Space
from .transform import Transform

ORDERS: dict[str, Literal[0, 1, 3]] = {"nearest": 0, "linear": 1, "cubic": 3}


def seen_through(image: Image, way: Mapping) -> Image:
    """An image as it lies in the world that a mapping leads to from its own; nothing is resampled or copied.

    An affine mapping moves the grid. Another one goes with the image (`Image.through`), and whoever draws or reads it
    asks the mapping for the place of each pixel.
    """
    if isinstance(way, Transform):
        space = image.space.moved(way.matrix)
        return image.placed(Placement(space.in_world(way.target)))
    seen = image.placed(Placement(image.space.in_world(way.target)))
    seen.through = way.inverse().prepared()
    return seen


def labels_through(labels: LabelMap, way: Mapping) -> LabelMap:
    """The same for a label map, to be drawn: it shares the voxels and has the names of now."""
    seen = copy(labels)
    seen.space = labels.space.moved(way.matrix) if isinstance(way, Transform) else labels.space
    seen.space = seen.space.in_world(way.target)
    seen.through = None if isinstance(way, Transform) else way.inverse().prepared()
    return seen


def resampled_through(
    values: np.ndarray,
    source: Space,
    target: Space,
    way: Mapping,
    how: How = "linear",
    outside: float = np.nan,
    progress: Progress | None = None,
) -> np.ndarray:
    """A volume at the voxels of a grid in another world, interpolated once.

    Parameters
    ----------
    values : array [k, j, i]
    source, target : Space
        Its grid, and the one that is wanted.
    way : Mapping
        From the world of `target` to that of `source`.
    how : text
        As in `resampling.resampled`; a sinc only where the mapping is affine.

    Returns
    -------
    float32 array [k, j, i]; of "nearest" the number type of `values`.

    Raises Trouble when a sinc is asked of a mapping that bends, Cancelled.
    """
    progress = progress or silent()
    if isinstance(way, Transform):
        return resampled(
            values, (source.inverse @ way.matrix @ target.affine)[:3], target.shape, how, outside, progress
        )
    from scipy import ndimage

    if how == "sinc":
        raise Trouble(f"“{way.name}” bends space, and a sinc cannot follow it", "take cubic interpolation")
    order = ORDERS[how]
    there = np.isfinite(values) if values.dtype.kind == "f" else None
    if there is not None and there.all():
        there = None
    filled = values if there is None else np.where(there, values, values.dtype.type(0))
    if order == 3:
        filled = ndimage.spline_filter(filled.astype(np.float32), 3, output=np.float32, mode="mirror")
    kind = values.dtype if order == 0 and (np.isfinite(outside) or values.dtype.kind == "f") else np.dtype(np.float32)
    out = np.empty(target.shape[::-1], kind)
    j, i = np.meshgrid(np.arange(target.shape[1]), np.arange(target.shape[0]), indexing="ij")
    last = np.array(values.shape[::-1]) - 1
    for k in progress.over(range(target.shape[2]), what="Resampling"):
        voxels = np.stack([i.ravel(), j.ravel(), np.full(i.size, k)], axis=1)
        at = source.to_voxel(way.to(target.to_world(voxels)))
        inside = np.all((at >= -0.5) & (at <= last + 0.5), axis=1)  # False for NaN, too
        spots = np.clip(np.nan_to_num(at), 0, last).T[::-1]
        found = ndimage.map_coordinates(filled, spots, order=order, prefilter=False, mode="mirror", output=kind)
        if there is not None:
            inside &= ndimage.map_coordinates(there.astype(np.uint8), spots, order=0, mode="nearest") > 0
        out[k] = np.where(inside, found, kind.type(outside)).reshape(i.shape)
    return out
