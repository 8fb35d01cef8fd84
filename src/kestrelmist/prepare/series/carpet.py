"""A series in one picture: every row a voxel's course, every column a volume."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated

import numpy as np

from ...core.errors import Trouble
from ...core.image import Image
from ...core.labels import LabelMap
from ...core.on_grid import require_same_grid
from ...core.operation import operation
from ...core.parameter import Between
from ...core.progress import Progress, silent
from ...core.space import picture_space
from .one_series import bright_part, time_of

WIDE = 1.6
"""Width of the picture in its height, at least."""


@operation(
    "prepare",
    "Carpet",
    name="carpet",
    keywords="carpet plot grey voxel time quality series artefact",
    takes="series",
    group="Series",
    called={"rows": "Voxels shown"},
    methods="All courses were laid out in one picture",
    cites=("Power 2017",),
)
def carpet(
    image: Image,
    mask: LabelMap | None = None,
    rows: Annotated[int, Between(10, 5000)] = 400,
    *,
    progress: Progress = silent(),
) -> Image:
    """Lay all courses of a series out in one picture, time from left to right, so that what happens to all voxels at
    once is seen as an upright stripe (J. D. Power, NeuroImage 154, 2017).

    Parameters
    ----------
    mask : label map
        Voxels that carry a label, label after label; those of the head, slice after slice, when left out.
    rows : number
        Voxels shown, evenly picked.

    Returns
    -------
    Image
        Change from each voxel's mean in per cent; the linear trend is taken out.

    Raises
    ------
    Trouble
        When the image is no series of three volumes or more, or the mask is empty or lies on another grid.
    """
    count = time_of(image).size
    if count < 3:
        raise Trouble(f"“{image.name}” has {count} volumes, too few to see a course", "choose a longer series")
    first = image.frame((0,)).fetch(progress).T
    if mask is not None:
        require_same_grid(image.frame((0,)), mask)
        numbers = mask.kji.ravel()
        index = np.flatnonzero(numbers)
        if not index.size:
            raise Trouble("The mask is empty", "choose one with voxels")
        index = index[np.argsort(numbers[index], kind="stable")]
    else:
        index = np.flatnonzero(bright_part(first))
        index = index if index.size else np.arange(first.size)
    index = index[np.linspace(0, index.size - 1, min(rows, index.size)).round().astype(int)]
    courses = np.empty((index.size, count), np.float32)
    for n in range(count):
        progress.at(n / count, "Reading the series")
        courses[:, n] = image.frame((n,)).fetch(progress).T.ravel()[index]
    mean = courses.mean(1, keepdims=True)
    line = np.linspace(-1, 1, count, dtype=np.float32)
    slope = (courses - mean) @ line / (line @ line)
    with np.errstate(divide="ignore", invalid="ignore"):
        change = 100 * (courses - mean - slope[:, None] * line) / np.abs(mean)
    change[~np.isfinite(change)] = np.nan
    values = np.asfortranarray(change.T[:, :, None])  # i is time, j runs down the rows
    # volumes are drawn wide, so that few of them fill a picture too
    space = replace(picture_space(count, index.size, (max(WIDE * index.size / count, 1.0), 1.0)), unit="px")
    return Image(values, space, f"Carpet of {image.name}", image.subject, unit="%")
