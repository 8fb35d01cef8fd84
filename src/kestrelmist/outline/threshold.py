"""Threshold: every voxel in a range becomes a label."""

from __future__ import annotations

import numpy as np

from ..core.errors import Trouble
from ..core.image import Image
from ..core.labels import LabelMap
from ..core.on_grid import require_same_grid
from ..core.operation import operation
from ..core.parameter import ImageValue, LabelName
from ..core.patch import LabelEdit, patch_from_mask


@operation(
    "outline",
    "Threshold",
    keywords="range bone tissue thresholding binarise binarize segment segmentation otsu",
    group="By value",
    methods="Voxels of {low} to {high} were labelled",
)
def threshold(image: Image, labels: LabelMap, label: LabelName, low: ImageValue, high: ImageValue) -> LabelEdit:
    """Give a label to every voxel whose value lies in a range, joined or not.

    Parameters
    ----------
    label : str
        Label to give; made when there is none of that name. Locked labels stay.
    low, high : values
        Lowest and highest value that belong, both included.

    Raises
    ------
    Trouble
        When the range runs downwards, or the label is locked.
    """
    require_same_grid(image, labels)
    if low > high:
        raise Trouble(f"The range runs from {low:g} down to {high:g}", "give the lower value first")
    table, row = labels.row_or_new(label)
    mask = ((image.kji >= low) & (image.kji <= high)).view(np.uint8)
    return LabelEdit(f"Threshold “{row.name}”", patch_from_mask(labels, mask, row.number), labels.table, table)
