"""A body told from the air round it."""

from __future__ import annotations

import math
from typing import Annotated

import numpy as np

from ...core.errors import Trouble
from ...core.image import Image
from ...core.labels import LabelMap
from ...core.left_out import LeftOut
from ...core.mean_volume import mean_volume
from ...core.on_grid import require_same_grid
from ...core.operation import operation
from ...core.parameter import ImageValue, LabelName
from ...core.patch import LabelEdit
from ...core.progress import Progress, silent
from .given_label import found_anew


@operation(
    "prepare",
    "Take out the body",
    name="take-out-body",
    keywords="body air threshold fill mask outline skin animal head foreground otsu background removal",
    takes="series",
    group="Taken out",
    reach=math.inf,
    through_time=True,
    called={"above": "Brighter than", "fill": "Air inside too", "all_pieces": "Every piece"},
    methods="The body was labelled by a threshold, and its largest piece kept",
    cites=("Otsu 1979",),
)
def take_out_body(
    image: Image,
    labels: LabelMap,
    label: LabelName = "Body",
    *,
    above: Annotated[ImageValue | None, LeftOut("by Otsu’s threshold")] = None,
    fill: bool = True,
    all_pieces: bool = False,
    progress: Progress = silent(),
) -> LabelEdit:
    """Label what is not air: everything above a value, the largest piece of it, with the air inside filled.

    Parameters
    ----------
    label : str
        Label to give; made when there is none of that name. Outside the body it is taken away; voxels of other labels
        keep theirs.
    above : value
        What is brighter belongs; found by the threshold of N. Otsu (IEEE Trans. SMC 9, 1979) when left out.
    fill : bool
        Whether air that is enclosed belongs too, also where it opens outwards within one slice only.
    all_pieces : bool
        Whether every piece belongs, and not the largest alone.

    Raises
    ------
    Trouble
        When the image has one value everywhere, or nothing in it is that bright.
    """
    from scipy import ndimage
    from skimage.filters import threshold_otsu

    require_same_grid(image, labels)
    table, row = labels.row_or_new(label)
    values = mean_volume(image, progress.part(0.0, 0.4))
    if values.min() == values.max():
        raise Trouble(
            f"“{image.name}” has one value everywhere, so nothing stands out from air", "choose another image"
        )
    progress.at(0.4, "Telling the body from air")
    soft = ndimage.gaussian_filter(values, [0.7 if n > 1 else 0 for n in values.shape])
    # half of the threshold between dark and bright: fat and skin at the edge are darker than the middle
    low = float(soft.min())
    limit = float(above) if above is not None else low + 0.5 * (float(threshold_otsu(soft)) - low)
    mask = soft > limit
    if not mask.any():
        raise Trouble(f"Nothing in “{image.name}” is brighter than {limit:g}", "give a lower value")
    if not all_pieces:
        progress.at(0.6, "Keeping the largest piece")
        pieces, _ = ndimage.label(mask)
        sizes = np.bincount(pieces.ravel())
        sizes[0] = 0
        mask = pieces == int(sizes.argmax())
    if fill:
        progress.at(0.8, "Filling it")
        mask = ndimage.binary_fill_holes(mask)
        for axis in range(3):
            if mask.shape[axis] > 1:
                mask = np.stack([ndimage.binary_fill_holes(p) for p in np.moveaxis(mask, axis, 0)], axis)
    return found_anew(labels, table, row, mask, "Take out")
