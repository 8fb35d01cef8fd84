"""Threshold by the image itself: limits from the histogram, or from what is round about."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np

from ..core.errors import Trouble
from ..core.gaussian import smoothed
from ..core.image import Image
from ..core.labels import LabelMap
from ..core.left_out import Found, LeftOut
from ..core.on_grid import require_same_grid
from ..core.operation import operation
from ..core.parameter import Between, LabelName, Only, Unit
from ..core.patch import LabelEdit, patch_from_mask
from ..core.progress import Progress, silent
from .otsu import otsu_limits


def _ten_voxels(given: dict) -> Found | None:
    image = given.get("image")
    return None if image is None else Found(10 * max(image.space.spacing[:2]), "ten voxels")


@operation(
    "outline",
    "Threshold by itself",
    name="auto-threshold",
    keywords="otsu multi-otsu automatic threshold local adaptive binarise binarize niblack",
    called={"how": "By", "which": "What belongs", "size": "Round about", "above": "Above the mean by"},
    rare="size above",
    group="By value",
    methods="Voxels were labelled by an automatic threshold ({how})",
    cites=("Otsu 1979",),
)
def auto_threshold(
    image: Image,
    labels: LabelMap,
    label: LabelName,
    how: Literal["otsu", "three classes", "local"] = "otsu",
    which: Literal["bright", "middle", "dark"] = "bright",
    *,
    size: Annotated[
        float | None, Unit("mm"), Between(1e-9, 1e6), Only("how", "local"), LeftOut("ten voxels", _ten_voxels)
    ] = None,
    above: Annotated[float, Between(-10, 10), Only("how", "local")] = 0.5,
    progress: Progress = silent(),
) -> LabelEdit:
    """Give a label to what is brighter, or darker, than a limit that the image itself tells.

    Parameters
    ----------
    label : text
        Made when there is none of that name. Locked labels stay.
    how : text
        "otsu": the limit between two classes of values (N. Otsu, IEEE Trans. SMC 9, 1979). "three classes": the limits
        between three. "local": a limit for each voxel, from the mean and the spread round about.
    which : text
        The bright ones, the dark ones, or the middle one of three classes.
    size : mm
        How far round a voxel its limit is taken from.
    above : standard deviations
        How far above the mean round about the limit lies (below it, for dark ones).

    Raises
    ------
    Trouble
        When all values are equal, the label is locked, or the middle is wanted of two classes.
    """
    require_same_grid(image, labels)
    table, row = labels.row_or_new(label)
    if which == "middle" and how != "three classes":
        raise Trouble("There is a middle of three classes only", "choose three classes, or bright or dark")
    progress.at(0.1, "Looking at values")
    values = image.kji
    if how == "local":
        length = size if size is not None else 10 * max(image.space.spacing[:2])
        mask = _local(values, length, image, above, which)
        side = "above" if which == "bright" else "below"
        told = f"{above:g} spreads {side} the mean within {length:g} {image.space.unit}"
    else:
        limits = otsu_limits(image.sample(), 3 if how == "three classes" else 2)
        if not limits:
            raise Trouble(f"“{image.name}” has one value everywhere, so nothing stands out", "choose another image")
        ends = {"bright": (limits[-1], np.inf), "dark": (-np.inf, limits[0]), "middle": (limits[0], limits[-1])}[which]
        mask = (values >= ends[0]) & (values < ends[1])
        told = " to ".join(f"{v:.4g}" for v in ends if np.isfinite(v))
        told = f"{'from' if which == 'bright' else 'below' if which == 'dark' else 'between'} {told}"
    progress.at(0.8, "Labelling")
    patch = patch_from_mask(labels, np.ascontiguousarray(mask).view(np.uint8), row.number)
    return LabelEdit(f"Threshold “{row.name}” by itself, {told}", patch, labels.table, table)


def _local(values: np.ndarray, length: float, image: Image, above: float, which: str) -> np.ndarray:
    """Brighter than the mean round about by so many standard deviations (W. Niblack, 1986), and by more than noise."""
    known = np.where(np.isfinite(values), values, 0).astype(np.float32)
    middle = np.float32(known.mean())
    known -= middle
    sigma = [length / s / 2 if n > 1 else 0.0 for s, n in zip(image.space.spacing[::-1], values.shape)]
    mean = smoothed(known, sigma)
    spread = np.sqrt(np.maximum(smoothed(known * known, sigma) - mean * mean, 0))
    sign = 1 if which == "bright" else -1
    return sign * (known - mean) > above * np.maximum(spread, 0.3 * float(spread.mean()))
