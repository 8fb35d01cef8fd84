"""Grow from point: what is joined to a clicked voxel becomes a label."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np

from ..core.errors import Trouble
from ..core.image import Image
from ..core.labels import LabelMap
from ..core.left_out import NO_LIMIT
from ..core.on_grid import require_same_grid
from ..core.operation import operation
from ..core.parameter import Between, ImageValue, LabelName, Unit, WorldPoint
from ..core.patch import LabelEdit, patch_from_mask
from ..core.progress import Progress, silent
from .flood import flood


@operation(
    "outline",
    "Grow from point",
    keywords="region growing seed connected fill flood magic wand segment segmentation",
    called={
        "through": "Spread through",
        "neighbours": "Joined by",
        "radius": "No further than",
        "slope": "No steeper than",
    },
    rare="neighbours radius slope",
    group="By value",
    methods="Labels were grown from a point over voxels of {low} to {high} that are joined",
)
def grow(
    image: Image,
    labels: LabelMap,
    label: LabelName,
    point: WorldPoint,
    *,
    low: ImageValue,
    high: ImageValue,
    neighbours: Literal[6, 18, 26] = 6,
    through: Literal["range", "label"] = "range",
    radius: Annotated[float | None, Unit("mm"), Between(1e-9, 1e6), NO_LIMIT] = None,
    slope: Annotated[float | None, Between(0, 1e30), NO_LIMIT] = None,
    progress: Progress = silent(),
) -> LabelEdit:
    """Give a label to everything that is joined to a point and lies in a range of values.

    Region growing by connectivity. Locked labels are walls: they are neither entered nor changed.

    Parameters
    ----------
    label : str
        Label to grow; made when there is none of that name.
    point : three mm
        World position to start from.
    low, high : values
        Lowest and highest value that belong to the region, both included.
    neighbours : 6, 18 or 26
        Voxels count as joined by a face; by a face or an edge; by a face, an edge or a corner.
    through : "range" or "label"
        "range" spreads through the image. "label" spreads through the label as it is and keeps only the part
        that is joined to the point: erase a bridge, then grow again.
    radius : mm
        How far from the point it may grow.
    slope : values a mm
        How steep the image may be where it grows: it stops at steeper edges. Where there is no scale, values a pixel.

    Raises
    ------
    Trouble
        When the point is outside the image, its value outside the range, or the label locked.
    """
    require_same_grid(image, labels)
    if low > high:
        raise Trouble(f"The range runs from {low:g} down to {high:g}", "give the lower value first")
    table, row = labels.row_or_new(label)
    voxel = image.space.nearest_voxel(point)
    if voxel is None:
        raise Trouble(f"The point {_mm(point)} lies outside “{image.name}”", "choose a point inside the image")
    seed = voxel[::-1]
    progress.at(0.0, "Growing")
    if through == "label":
        return _keep_joined(labels, row, seed, neighbours, progress)
    value = float(image.kji[seed])
    if not low <= value <= high:
        raise Trouble(
            f"The value at the point is {value:g}, outside the range from {low:g} to {high:g}",
            "click inside the structure or widen the range",
        )
    under = labels.table.get(int(labels.kji[seed]))
    if under is not None and under.locked:
        raise Trouble(f"The point lies in “{under.name}”, which is locked", "unlock it or choose another point")
    if radius is not None or slope is not None:
        return _within_limits(image, labels, table, row, seed, (low, high), neighbours, radius, slope, progress)
    mask = None
    if any(other.locked and labels.counts[other.number] for other in labels.table):
        mask = (labels.writable()[labels.kji] == 0).view("uint8")
    mask, voxels, box = flood(image.kji, seed, low, high, neighbours, mask, progress.stop)
    progress.at(0.8, "Growing")
    patch = patch_from_mask(labels, mask[box], row.number, tuple(s.start for s in box))
    return LabelEdit(f"Grow “{row.name}” from point", patch, labels.table, table)


def _within_limits(image, labels, table, row, seed, ends, neighbours, radius, slope, progress: Progress) -> LabelEdit:
    """The region in a ball round the seed, stopped by steep edges."""
    space = image.space
    box = tuple(slice(0, n) for n in image.kji.shape)
    if radius is not None:
        beyond = np.ceil(radius * np.linalg.norm(space.inverse[:3, :3], axis=1))[::-1]
        box = tuple(slice(max(0, int(s - b)), min(n, int(s + b) + 1)) for s, b, n in zip(seed, beyond, image.kji.shape))
    walls = (labels.writable()[labels.kji[box]] == 0).view(np.uint8)
    values = np.ascontiguousarray(image.kji[box])
    inner = tuple(s - b.start for s, b in zip(seed, box))
    if radius is not None:
        grid = np.indices(values.shape).reshape(3, -1)[::-1].T - np.array(inner[::-1])
        away = np.linalg.norm(grid @ space.affine[:3, :3].T, axis=1).reshape(values.shape)
        walls |= (away > radius * (1 + 1e-9)).view(np.uint8)
    if slope is not None:
        steep = slope_of(values, space.spacing[::-1]) > slope
        if steep[inner]:
            raise Trouble("The image is steeper than that at the point itself", "click further inside, or allow more")
        walls |= steep.view(np.uint8)
    blocked = walls.copy()
    mask, _, found = flood(values, inner, ends[0], ends[1], neighbours, walls, progress.stop)
    progress.at(0.8, "Growing")
    corner = tuple(f.start + b.start for f, b in zip(found, box))
    patch = patch_from_mask(labels, mask[found] & ~blocked[found] & 1, row.number, corner)
    return LabelEdit(f"Grow “{row.name}” from point", patch, labels.table, table)


def slope_of(values: np.ndarray, spacing) -> np.ndarray:
    """How steep values are, per unit of the spacing, float32 [k, j, i]: the length of the gradient."""
    total = np.zeros(values.shape, np.float32)
    for axis, step in enumerate(spacing):
        if values.shape[axis] > 1:
            total += np.gradient(np.asarray(values, np.float32), step, axis=axis) ** 2
    return np.sqrt(total)


def _keep_joined(labels: LabelMap, row, seed, neighbours: int, progress: Progress) -> LabelEdit:
    if labels.kji[seed] != row.number:
        raise Trouble(f"The point does not lie in “{row.name}”", "click inside the label to keep what is joined there")
    joined, _, _ = flood(labels.kji, seed, row.number, row.number, neighbours, None, progress.stop)
    progress.at(0.6, "Growing")
    joined ^= 1  # what is not joined is to be cleared
    patch = patch_from_mask(labels, joined, 0, only=row.number)
    return LabelEdit(f"Keep the joined part of “{row.name}”", patch, labels.table, labels.table)


def _mm(point) -> str:
    return "(" + ", ".join(f"{v:.2f}" for v in point) + ") mm"
