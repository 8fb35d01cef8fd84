"""Several images into one: mean, spread, maximum, sum, or the difference of two."""

from __future__ import annotations

from typing import Literal, NamedTuple

import numpy as np

from ...core.errors import Trouble
from ...core.image import Image
from ...core.labels import LabelMap
from ...core.operation import operation
from ...core.overlap import require_one_world
from ...core.progress import Progress, silent
from ...core.space import Space
from ...core.table import Column, Table


class Combined(NamedTuple):
    """The new image, and what each image had to give."""

    image: Image
    values: Table


@operation(
    "prepare",
    "Combine images",
    keywords=(
        "mean average standard deviation maximum sum difference subtract add average mean image sum of images "
        "subtraction"
    ),
    group="Values",
    called={"how": "Combine by", "others": "With", "mask": "Only within"},
    methods="Images were combined voxel by voxel ({how})",
)
def combine(
    image: Image,
    others: list[Image],
    how: Literal["mean", "sd", "maximum", "sum", "difference"] = "mean",
    *,
    mask: LabelMap | None = None,
    progress: Progress = silent(),
) -> Combined:
    """Combine images voxel by voxel. Images on another grid are brought onto the first one's, linearly, by position.

    Where an image has no value, because it does not reach there or holds none, it does not count; where none has,
    the result has none (NaN). The standard deviation is that of a sample (n − 1).

    Parameters
    ----------
    others : images
        The ones to combine the first with.
    how : text
        Mean, standard deviation (sd), maximum or sum of all; or the difference, the first minus the other.
    mask : label map
        Only voxels that carry a label count; the result is empty elsewhere.

    Returns
    -------
    image : Image
        float32, on the grid of the first image.
    values : Table
        One row an image: voxels that counted, mean, standard deviation, lowest and highest value.

    Raises
    ------
    Trouble
        When there is nothing to combine with, a difference is asked of more than two, units differ, an image has no
        scale in common with the first, or nothing overlaps.
    """
    if not others:
        raise Trouble("There is nothing to combine with", "name at least one other image")
    if how == "difference" and len(others) != 1:
        raise Trouble(f"A difference is that of two images, and {len(others) + 1} were given", "choose one other image")
    units = {one.unit for one in (image, *others)}
    if len(units) > 1:
        told = ", ".join(f"“{one.name}” in {one.unit or 'no unit'}" for one in (image, *others))
        raise Trouble(f"These images have different units: {told}", "combine images of one unit")
    everyone = (image, *others)
    for one in others:
        require_one_world(image, one)
    reading = progress.part(0.0, 0.3)
    for n, one in enumerate(everyone):
        one.fetch(reading.part(n / len(everyone), (n + 1) / len(everyone)))
    painted = None if mask is None else mask.kji > 0
    size, step = image.kji.shape, max(1, SLAB // max(1, int(np.prod(image.kji.shape[1:]))))
    result = np.empty(size, np.float32)
    counts = [_Counts() for _ in everyone]
    for first in range(0, size[0], step):
        last = min(first + step, size[0])
        total = _Total(how, (last - first, *size[1:]))
        inside = None
        if mask is not None and painted is not None:
            inside = _sampled(painted, mask.space, image.space, first, last, 0, False)
        for n, one in enumerate(everyone):
            progress.at(0.3 + 0.7 * (first + (last - first) * n / len(everyone)) / size[0], "Combining")
            values = _sampled(one.kji, one.space, image.space, first, last, 1, np.nan).astype(np.float64)
            there = np.isfinite(values) if inside is None else np.isfinite(values) & inside
            counts[n].add(values[there])
            total.add(values, there)
        result[first:last] = total.result()
    for one, count in zip(everyone, counts):
        if not count.size:
            raise Trouble(f"“{one.name}” has no values where “{image.name}” lies", "choose images that overlap")
    columns = [Column("image"), Column("subject"), Column("voxels"), *(Column(n, image.unit, 4) for n in COLUMNS)]
    rows = [(one.name, one.subject, *count.row) for one, count in zip(everyone, counts)]
    made = image.like(result.T, name=f"{image.name}, {how}")
    return Combined(made, Table(f"{image.name}, {how}", columns, rows))


COLUMNS = ("mean", "sd", "lowest", "highest")
SLAB = 1 << 23
"""Voxels that are worked on at a time."""


class _Counts:
    """Number, mean, spread and ends of values that come in parts (T. F. Chan et al., Am. Stat. 37, 1983)."""

    def __init__(self):
        self.size, self.mean, self.squares, self.low, self.high = 0, 0.0, 0.0, np.inf, -np.inf

    def add(self, values: np.ndarray) -> None:
        if not values.size:
            return
        mean, size = float(values.mean()), self.size + values.size
        away = mean - self.mean
        self.squares += float(((values - mean) ** 2).sum()) + away**2 * self.size * values.size / size
        self.mean += away * values.size / size
        self.low, self.high = min(self.low, float(values.min())), max(self.high, float(values.max()))
        self.size = size

    @property
    def row(self) -> tuple:
        spread = float(np.sqrt(self.squares / (self.size - 1))) if self.size > 1 else None
        return self.size, self.mean, spread, self.low, self.high


class _Total:
    """Runs over the images once, whatever is asked for (Welford 1962 for the spread)."""

    def __init__(self, how: str, shape):
        self.how = how
        self.count = np.zeros(shape, np.int32)
        self.value = np.full(shape, -np.inf) if how == "maximum" else np.zeros(shape)
        self.squares = np.zeros(shape) if how == "sd" else None
        self.first = True

    def add(self, values: np.ndarray, there: np.ndarray) -> None:
        values = np.where(there, values, 0.0)
        self.count += there
        if self.how == "maximum":
            np.maximum(self.value, np.where(there, values, -np.inf), out=self.value)
        elif self.how in ("mean", "sd"):
            away = np.where(there, values - self.value, 0.0)
            self.value += away / np.maximum(self.count, 1)
            if self.squares is not None:
                self.squares += np.where(there, away * (values - self.value), 0.0)
        else:
            self.value += values if self.first or self.how == "sum" else -values
        self.first = False

    def result(self) -> np.ndarray:
        least = {"difference": 2, "sd": 2}.get(self.how, 1)
        value = self.value if self.squares is None else np.sqrt(self.squares / np.maximum(self.count - 1, 1))
        return np.where(self.count >= least, value, np.nan)


def _sampled(kji: np.ndarray, source: Space, target: Space, first: int, last: int, order: int, outside) -> np.ndarray:
    """Values of a volume at the slices `first` to `last` of another grid, [k, j, i]: as they are when it is the same
    grid, else by position, linearly (order 1) or the nearest (0)."""
    if source.same_grid(target):
        return kji[first:last]
    from scipy import ndimage

    turn = (source.inverse @ target.affine)[2::-1, [2, 1, 0, 3]]
    start = turn[:, :3] @ (first, 0, 0) + turn[:, 3]
    shape = (last - first, *target.shape[1::-1])
    kind = np.float32 if order else kji.dtype
    return ndimage.affine_transform(
        kji, turn[:, :3], start, shape, kind, order=order, mode="constant", cval=outside, prefilter=False
    )
