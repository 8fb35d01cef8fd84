"""Courses through time: the values of a place in every volume of a series."""

from __future__ import annotations

from typing import Literal

import numpy as np

from ..core.digits import decimals_for
from ..core.errors import Trouble
from ..core.image import Image
from ..core.labels import LabelMap
from ..core.operation import operation
from ..core.parameter import LabelName, WorldPoint
from ..core.progress import Progress, silent
from ..core.table import Column, Table
from .seed import Ball, seed_at, time_axis

MODES = Literal["raw", "mean removed", "z-score", "scaled", "percent", "spectrum"]


@operation(
    "measure",
    "Course through time",
    name="course",
    keywords="time curve series region plot spectrum time course time series plot of values roi signal",
    takes="series",
    called={"ball": "Ball about it", "label": "Or label", "mode": "Shown as", "time_column": "With times"},
    rare="time_column",
    group="Courses",
    methods="The mean course of places was taken",
)
def course(
    image: Image,
    labels: LabelMap,
    point: WorldPoint | None = None,
    ball: Ball = 0.0,
    label: LabelName = "",
    *,
    mode: MODES = "raw",
    time_column: bool = True,
    progress: Progress = silent(),
) -> Table:
    """The values of a voxel, or the mean of a ball or a label, in every volume of a series.

    Parameters
    ----------
    point : place
        World position of the voxel, or of the middle of the ball.
    ball : mm
        Diameter of the ball; 0 for the voxel alone.
    label : label
        A label to be taken in place of the point.
    mode : text
        Values as they are (raw), without their mean, divided by their standard deviation after that (z-score), scaled
        to −1 … 1, as percent of their mean, or the power spectrum (periodogram, A. Schuster, Terrestrial Magnetism
        3, 1898).
    time_column : bool
        Whether the time, or the number of the volume, stands in the first column.

    Returns
    -------
    Table
        One row a volume, or a frequency.

    Raises
    ------
    Trouble
        When the image is no series, or nothing is where the course is wanted.
    """
    seed = seed_at(image, labels, point, ball, label)
    axis = time_axis(image)
    values = seed.course(image, progress)
    if mode == "spectrum":
        along, found, unit = spectrum(values, axis.step)
        heads = ("frequency", "Hz" if axis.step and axis.unit == "s" else f"1/{axis.unit or 'volume'}")
    else:
        found, unit = shaped(values, mode, image.unit)
        along = np.array(axis.values) if axis.values else np.arange(1.0, axis.size + 1)
        heads = (axis.name, axis.unit) if axis.values else ("volume", "")
    digits = decimals_for(float(np.nanmin(found)), float(np.nanmax(found))) + 2 if np.isfinite(found).any() else 2
    columns = [Column(*heads, decimals_for(0.0, float(along.max())) + 1 if heads[1] else 0)] if time_column else []
    table = Table(f"{seed.name} in {image.name}", [*columns, Column("value", unit, digits)])
    for x, y in zip(along, found):
        value = float(y) if np.isfinite(y) else None
        table.rows.append((float(x) if heads[1] else round(float(x)), value) if time_column else (value,))
    return table


def shaped(values: np.ndarray, mode: str, unit: str = "") -> tuple[np.ndarray, str]:
    """A course in one of the modes, and its unit.

    Raises Trouble when it cannot be had: percent of a mean of zero, the spread of a constant.
    """
    mean = np.nanmean(values) if np.isfinite(values).any() else np.nan
    away = values - mean
    if mode == "mean removed":
        return away, unit
    if mode == "z-score":
        spread = np.nanstd(away, ddof=1)
        if not spread > 0:
            raise Trouble("This course does not change, so it has no z-score", "choose another place or another mode")
        return away / spread, ""
    if mode == "scaled":
        low, high = np.nanmin(values), np.nanmax(values)
        if not high > low:
            raise Trouble("This course does not change, so it cannot be scaled", "choose another place or another mode")
        return 2 * (values - low) / (high - low) - 1, ""
    if mode == "percent":
        if not abs(mean) > 1e-12 * np.nanmax(np.abs(values), initial=0.0):
            raise Trouble("The mean of this course is zero, so percent of it means nothing", "choose another mode")
        return 100 * away / mean, "%"
    return values, unit


def spectrum(values: np.ndarray, step: float | None) -> tuple[np.ndarray, np.ndarray, str]:
    """Frequencies, and the share of the variance that each has; missing values count as the mean."""
    away = np.where(np.isfinite(values), values - np.nanmean(values), 0.0)
    power = np.abs(np.fft.rfft(away)) ** 2
    power[1:] *= 2
    if len(values) % 2 == 0:
        power[-1] /= 2
    total = power[1:].sum()
    shares = 100 * power / total if total > 0 else np.zeros_like(power)
    return np.fft.rfftfreq(len(values), step or 1.0)[1:], shares[1:], "%"
