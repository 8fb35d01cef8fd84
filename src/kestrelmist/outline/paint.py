"""The brush and the eraser as operations, for scripts and recipes."""

from __future__ import annotations

from typing import Annotated

from ..core.image import Image
from ..core.labels import LabelMap
from ..core.on_grid import require_same_grid
from ..core.operation import operation
from ..core.parameter import Between, ImageValue, LabelName, Unit, WorldPoint
from ..core.patch import LabelEdit
from .brush import Brush, Stroke

BrushSize = Annotated[float, Unit("mm"), Between(1e-6, 1e4)]


@operation(
    "outline",
    "Paint a ball",
    name="paint",
    keywords="brush draw manual segmentation",
    group="By hand",
    methods="Labels were painted",
)
def paint(
    image: Image,
    labels: LabelMap,
    label: LabelName,
    point: WorldPoint,
    diameter: BrushSize = 1.0,
    *,
    low: ImageValue | None = None,
    high: ImageValue | None = None,
) -> LabelEdit:
    """Give a label to the voxels of a ball.

    Parameters
    ----------
    label : str
        Label to paint with; made when there is none of that name.
    point : three mm
        Centre of the ball, world position.
    diameter : mm
    low, high : values
        When both are given, only voxels with values between them are painted.
    """
    return _dab(image, labels, label, point, diameter, low, high, erase=False)


@operation(
    "outline",
    "Erase a ball",
    name="erase",
    keywords="eraser rubber remove bridge",
    group="By hand",
    methods="Labels were erased",
)
def erase(image: Image, labels: LabelMap, label: LabelName, point: WorldPoint, diameter: BrushSize = 1.0) -> LabelEdit:
    """Take a label away from the voxels of a ball.

    Parameters
    ----------
    label : str
        Label to erase; others stay.
    point : three mm
        Centre of the ball, world position.
    diameter : mm
    """
    return _dab(image, labels, label, point, diameter, None, None, erase=True)


def _dab(image, labels, label, point, diameter, low, high, erase: bool) -> LabelEdit:
    require_same_grid(image, labels)
    before = labels.table
    if erase or before.has_name(label):
        after, row = before, before.named(label)
    else:
        after, row = before.with_new(label)
    labels.table = after
    try:
        stroke = Stroke(
            image,
            labels,
            Brush(diameter, "ball", low, high if low is not None else None),
            0 if erase else row.number,
            erase_only=row.number if erase else 0,
        )
        stroke.to(point)
        edit = stroke.finish()
        if edit.patch:
            edit.patch.reversed().apply(labels)  # an operation leaves its inputs as they were
    finally:
        labels.table = before
    return LabelEdit(f"{'Erase in' if erase else 'Paint'} “{row.name}”", edit.patch, before, after)
