"""Label numbers carried from one grid to another by world position."""

from __future__ import annotations

import numpy as np

from .errors import Trouble
from .labels import LabelMap
from .space import Space


def on_grid(labels: LabelMap, space: Space) -> LabelMap:
    """The labels on another grid: every voxel takes the number at its centre.

    Raises
    ------
    Trouble
        When no label lies on the grid.
    """
    if labels.space.same_grid(space):
        return LabelMap(space, labels.data, labels.table, labels.name)
    from scipy import ndimage

    turn = labels.space.inverse @ space.affine
    data = ndimage.affine_transform(
        labels.data, turn[:3, :3], turn[:3, 3], space.shape, order=0, mode="constant", cval=0
    )
    found = LabelMap(space, np.asfortranarray(data), labels.table, labels.name)
    if found.counts[0] == found.kji.size:
        raise Trouble("None of the labels in this file lies on this image", "choose the image they were drawn on")
    return found
