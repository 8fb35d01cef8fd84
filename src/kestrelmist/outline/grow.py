"""Grow from point: what is joined to a clicked voxel becomes a label."""

from __future__ import annotations

from typing import Literal

from ..core.errors import Trouble
from ..core.image import Image
from ..core.labels import LabelMap
from ..core.on_grid import require_same_grid
from ..core.operation import operation
from ..core.parameter import ImageValue, LabelName, WorldPoint
from ..core.patch import LabelEdit, patch_from_mask
from ..core.progress import Progress, silent
from .flood import flood


@operation(
    "outline",
    "Grow from point",
    keywords="region growing seed connected fill flood magic wand segment segmentation",
    called={"through": "Spread through", "neighbours": "Joined by"},
    rare="neighbours",
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
    mask = None
    if any(other.locked and labels.counts[other.number] for other in labels.table):
        mask = (labels.writable()[labels.kji] == 0).view("uint8")
    mask, voxels, box = flood(image.kji, seed, low, high, neighbours, mask, progress.stop)
    progress.at(0.8, "Growing")
    patch = patch_from_mask(labels, mask[box], row.number, tuple(s.start for s in box))
    return LabelEdit(f"Grow “{row.name}” from point", patch, labels.table, table)


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
