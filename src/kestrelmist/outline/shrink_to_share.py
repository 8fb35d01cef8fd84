"""Shrink a region to what lies above a share of its maximum, or of its mean."""

from __future__ import annotations

from typing import Literal

import numpy as np

from ..core.errors import Trouble
from ..core.grid_plane import Within, axis_across
from ..core.image import Image
from ..core.labels import LabelMap
from ..core.on_grid import require_same_grid
from ..core.operation import operation
from ..core.parameter import LabelName
from ..core.patch import LabelEdit, patch_from_mask
from .shaping.each_label import parts


@operation(
    "outline",
    "Shrink to a share",
    name="shrink-to-share",
    keywords="percent of maximum isocontour uptake threshold relative threshold 40 percent hottest volume of interest",
    called={"of": "Of its", "within": "In", "label": "Label (all when left out)"},
    rare="within",
    group="By value",
    reach=np.inf,
    coarse=False,
    methods="Regions were shrunk to what lies above {share} of their {of}",
)
def shrink_to_share(
    image: Image,
    labels: LabelMap,
    label: LabelName | None = None,
    share: float = 0.4,
    of: Literal["maximum", "mean"] = "maximum",
    *,
    within: Within = "volume",
) -> LabelEdit:
    """Take from a region every voxel below a share of the highest value in it, or of its mean.

    Parameters
    ----------
    label : text
        All that are not locked when left out; each has a maximum of its own.
    share : number
        Above 0, up to 1: 0.4 keeps what has 40 per cent of the maximum or more.
    of : text
        What the share is of. With the mean, more than 1 may be given.
    within : text
        The maximum of the whole region, or in each slice of a plane that of the slice.

    Raises
    ------
    Trouble
        When the share is 0 or less, or above 1 of the maximum; the label is locked or empty; its values are not above
        0; or nothing would be left.
    """
    require_same_grid(image, labels)
    if not share > 0:
        raise Trouble(f"A share of {share:g} keeps everything", "give more than 0, as 0.4 for 40 per cent")
    if share > 1 and of == "maximum":
        raise Trouble(f"Nothing has {share:g} times the maximum", "give 1 or less, as 0.4 for 40 per cent")
    several = parts(labels, label, 0.0)
    gone = np.zeros(labels.kji.shape, np.uint8)
    told = []
    for part in several:
        mask = part.mask
        values = np.asarray(image.kji[part.box], np.float64)
        axis = None if within == "volume" else 2 - axis_across(labels.space, within)
        limit = _limits(values, mask, share, of, axis, part.row.name)
        kept = mask & (values >= limit)
        if not kept.any():
            raise Trouble(f"No voxel of “{part.row.name}” would be left", "give a smaller share")
        gone[part.box] |= (mask & ~kept).view(np.uint8)
        if axis is None:
            told.append(f"“{part.row.name}” to {float(limit):.4g} and above")
    patch = patch_from_mask(labels, gone, 0)
    what = told[0] if len(told) == 1 else f"{len(several)} labels" if len(several) > 1 else f"“{several[0].row.name}”"
    none = "" if patch.voxels else ": nothing changed"
    return LabelEdit(f"Shrink {what} ({share:g} of the {of}){none}", patch, labels.table, labels.table)


def _limits(values, mask, share: float, of: str, axis: int | None, name: str) -> np.ndarray:
    """The lowest value that stays: one, or one a slice."""
    known = mask & np.isfinite(values)
    if not known.any():
        raise Trouble(f"“{name}” has no value in it", "draw it where the image has values")
    over = None if axis is None else tuple(n for n in range(3) if n != axis)
    if of == "maximum":
        found = np.where(known, values, -np.inf).max(over, keepdims=over is not None)
    else:
        count = known.sum(over, keepdims=over is not None)
        found = np.where(known, values, 0).sum(over, keepdims=over is not None) / np.maximum(count, 1)
    there = np.isfinite(found)
    if not (np.asarray(found)[there] > 0).all():
        raise Trouble(f"The values in “{name}” are not above 0, so a share of them says nothing", "use a threshold")
    return share * np.where(there, found, np.inf)
