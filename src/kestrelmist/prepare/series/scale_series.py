"""A series whose brightness means something: each volume, the whole, or each voxel brought to a mean."""

from __future__ import annotations

from typing import Literal

import numpy as np

from ...core.errors import Trouble
from ...core.image import Image
from ...core.labels import LabelMap
from ...core.on_grid import require_same_grid
from ...core.operation import operation
from ...core.progress import Progress, silent
from .one_series import bright_part, time_of

PALE = 0.05
"""Share of the median brightness below which a voxel's own mean is no measure of anything."""


@operation(
    "prepare",
    "Scale to a mean",
    name="scale-series",
    keywords="grand mean intensity normalise percent signal change series grand mean scaling global",
    takes="series",
    group="Series",
    called={"each": "Mean of each", "to": "Becomes", "mask": "Mean within"},
    methods="Series were scaled to a mean of {to} ({each})",
)
def scale_series(
    image: Image,
    each: Literal["series", "volume", "voxel"] = "series",
    to: float = 100.0,
    *,
    mask: LabelMap | None = None,
    progress: Progress = silent(),
) -> Image:
    """Bring the mean of a series to a number, by one factor; of every volume, by its own; or of every voxel's course,
    by its own, so that changes are per cent of it.

    Parameters
    ----------
    each : text
        What has the mean afterwards: the series, each volume, or each voxel.
    to : number
        The mean.
    mask : label map
        Voxels that carry a label are the ones whose mean counts; those of the head when left out.

    Returns
    -------
    Image
        float32. Of “voxel”, one whose mean is near nothing has no value.

    Raises
    ------
    Trouble
        When the image is no series, the mask is empty or lies on another grid, or a mean is 0.
    """
    count = time_of(image).size
    inside = None
    if mask is not None:
        require_same_grid(image.frame((0,)), mask)
        inside = mask.data > 0
        if not inside.any():
            raise Trouble("The mask is empty", "choose one with voxels")
    total, means = np.zeros(image.space.shape, np.float64), np.empty(count)
    for n in range(count):
        progress.at(n / count, "Reading the series")
        values = image.frame((n,)).fetch(progress).astype(np.float64)
        total += values
        if inside is None:
            inside = bright_part(values)
        seen = values[inside]
        means[n] = seen[np.isfinite(seen)].mean() if np.isfinite(seen).any() else np.nan
    if each == "volume":
        if (bad := np.flatnonzero(~(np.abs(means) > 0))).size:
            raise Trouble(f"The mean of volume {bad[0] + 1} of “{image.name}” is 0 or none", "leave it out first")
        factors = to / means
        return image.like(
            lambda index, progress: _times(image, index, factors[index[0]], progress), name=f"{image.name}, scaled"
        )
    if each == "series":
        whole = float(np.nanmean(means)) if np.isfinite(means).any() else 0.0
        if not whole:
            raise Trouble(f"The mean of “{image.name}” is 0", "give a mask of what is bright")
        return image.like(
            lambda index, progress: _times(image, index, to / whole, progress), name=f"{image.name}, scaled"
        )
    average = total / count
    middle = float(np.nanmedian(np.abs(average[inside]))) if inside is not None else 0.0
    with np.errstate(divide="ignore", invalid="ignore"):
        factor = np.where(np.abs(average) > PALE * middle, to / average, np.nan).astype(np.float32)
    if not np.isfinite(factor).any():
        raise Trouble(f"No voxel of “{image.name}” has a mean", "choose another series")
    unit = "%" if to == 100 else ""
    return image.like(
        lambda index, progress: _times(image, index, factor, progress), name=f"{image.name}, per voxel", unit=unit
    )


def _times(image: Image, index: tuple[int, ...], factor, progress: Progress) -> np.ndarray:
    return np.asfortranarray(image.frame(index).fetch(progress).astype(np.float32) * np.asarray(factor, np.float32))
