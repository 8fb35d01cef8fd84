"""Many values into one: through time, through a slab, along an axis."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, Literal

import numpy as np

from ...core.axis import Axis
from ...core.errors import Trouble
from ...core.image import Image
from ...core.left_out import LeftOut
from ...core.operation import operation
from ...core.parameter import Between, Unit
from ...core.progress import Progress, silent
from ...formats.grid_facts import on_another_grid

Ways = Literal["mean", "sd", "maximum", "minimum", "sum", "median", "snr"]


@operation(
    "prepare",
    "Through time",
    name="through-time",
    keywords=(
        "mean standard deviation maximum minimum sum temporal signal to noise series tsnr mean image temporal "
        "mean average over time"
    ),
    takes="series",
    group="Series",
    reach=0.0,
    through_time=True,
    called={"how": "Take the"},
    methods="Series were summarised through time ({how})",
)
def through_time(image: Image, how: Ways = "mean", *, progress: Progress = silent()) -> Image:
    """One volume from all of a series, voxel by voxel. Volumes are read one after another; values that are not finite
    do not count.

    Parameters
    ----------
    how : text
        Mean, standard deviation (of a sample, n − 1), maximum, minimum, sum, median; or temporal signal to noise (snr),
        the mean over the standard deviation.

    Raises
    ------
    Trouble
        When the image is no series, or too short for a spread.
    """
    axis = _one_axis(image)
    if how in ("sd", "snr") and axis.size < 2:
        raise Trouble(f"“{image.name}” has one volume, so it has no spread", "choose a longer series")
    if how == "median":
        return image.like(_median(image, progress), axes=(), name=f"{image.name}, median", facts=dict(image.facts))
    count = np.zeros(image.space.shape, np.int32, order="F")
    start = {"maximum": -np.inf, "minimum": np.inf}.get(how, 0.0)
    value = np.full(image.space.shape, start, np.float64, order="F")
    squares = np.zeros(image.space.shape, np.float64, order="F") if how in ("sd", "snr") else None
    for n in range(axis.size):
        progress.at(n / axis.size, "Reading the series")
        values = image.frame((n,)).fetch(progress).astype(np.float64)
        there = np.isfinite(values)
        values = np.where(there, values, 0.0)
        count += there
        if how == "maximum":
            np.maximum(value, np.where(there, values, -np.inf), out=value)
        elif how == "minimum":
            np.minimum(value, np.where(there, values, np.inf), out=value)
        elif how == "sum":
            value += values
        else:  # B. P. Welford, Technometrics 4, 1962
            away = np.where(there, values - value, 0.0)
            value += away / np.maximum(count, 1)
            if squares is not None:
                squares += np.where(there, away * (values - value), 0.0)
    if squares is not None:
        spread = np.sqrt(squares / np.maximum(count - 1, 1))
        with np.errstate(divide="ignore", invalid="ignore"):
            value = spread if how == "sd" else np.where(spread > 0, value / spread, np.nan)
    value = np.where(count >= (2 if squares is not None else 1), value, np.nan).astype(np.float32)
    return image.like(
        np.asfortranarray(value), axes=(), name=f"{image.name}, {how}", unit="" if how == "snr" else image.unit
    )


def _one_axis(image: Image) -> Axis:
    if not image.axes:
        raise Trouble(f"“{image.name}” is one volume, not a series", "choose a series")
    if len(image.axes) > 1:
        others = ", ".join(a.name for a in image.axes[1:])
        raise Trouble(
            f"“{image.name}” has more than one axis besides space ({others})", "keep one place along it first"
        )
    return image.axes[0]


def _median(image: Image, progress: Progress) -> np.ndarray:
    """Slab by slab, so that a long series needs no more than a part of itself."""
    nk, size = image.space.shape[2], image.axes[0].size
    thick = max(1, int((256 << 20) / (4 * size * np.prod(image.space.shape[:2]))))
    out = np.empty(image.space.shape, np.float32, order="F")
    for k in range(0, nk, thick):
        progress.at(k / nk, "Reading the series")
        part = np.stack([image.frame((n,)).fetch(progress)[:, :, k : k + thick] for n in range(size)], -1)
        with np.errstate(all="ignore"):
            out[:, :, k : k + thick] = np.nanmedian(part.astype(np.float32), -1)
    return out


@operation(
    "prepare",
    "Project",
    name="project",
    keywords=(
        "slab mip maximum intensity projection mean sum along axis thick slice z projection z-projection z "
        "stack minip average intensity"
    ),
    group="Values",
    called={"how": "Take the", "slab": "Slab"},
    methods="Voxels along {along} were projected ({how})",
)
def project(
    image: Image,
    along: Literal["i", "j", "k"] = "k",
    how: Literal["mean", "sd", "maximum", "minimum", "sum"] = "maximum",
    *,
    slab: Annotated[float | None, Unit("mm"), Between(0, 1e6), LeftOut("the whole length", was=0.0)] = None,
    progress: Progress = silent(),
) -> Image:
    """Take many voxels along one of the grid's own axes into one: the whole of it, or a slab that moves along.

    Parameters
    ----------
    along : text
        Which axis of the grid.
    how : text
        Mean, standard deviation (n − 1), maximum, minimum or sum of the voxels that have a value.
    slab : mm
        Thickness of a slab about every voxel, which stay as many as they are; the whole length becomes one voxel when
        it is left out.

    Raises
    ------
    Trouble
        When the image is one voxel thick along the axis, or has no scale for a slab in mm.
    """
    axis = "ijk".index(along)
    size = image.space.shape[axis]
    if size < 2:
        raise Trouble(f"“{image.name}” is one voxel thick along {along}", "choose another axis")
    values = image.data.astype(np.float64)
    name = f"{image.name}, {how} along {along}"
    if not slab:
        progress.at(0.2, "Projecting")
        made = _reduced(values, how, axis)[tuple(slice(None) if n != axis else None for n in range(3))]
        affine = image.space.affine.copy()
        affine[:3, 3] += affine[:3, axis] * (size - 1) / 2
        affine[:3, axis] *= size
        shape = tuple(1 if n == axis else m for n, m in enumerate(image.space.shape))
        space = replace(image.space, shape=shape, affine=affine)  # type: ignore[arg-type]
        facts = on_another_grid(image, space)
        return image.like(np.asfortranarray(made.astype(np.float32)), space=space, name=name, facts=facts)
    if image.space.unit == "px":
        raise Trouble(f"“{image.name}” has no scale, so a slab in mm means nothing", "set its voxel size first")
    half = max(0, round((slab / image.space.spacing[axis] - 1) / 2))
    out = np.empty(values.shape, np.float32, order="F")
    moved, target = np.moveaxis(values, axis, 0), np.moveaxis(out, axis, 0)
    for n in range(size):
        progress.at(n / size, "Projecting")
        target[n] = _reduced(moved[max(0, n - half) : n + half + 1], how, 0)
    return image.like(out, name=f"{name}, {slab:g} mm")


def _reduced(values: np.ndarray, how: str, axis: int) -> np.ndarray:
    there = np.isfinite(values)
    count = there.sum(axis)
    filled = np.where(there, values, 0.0)
    with np.errstate(all="ignore"):
        if how == "maximum":
            made = np.where(there, values, -np.inf).max(axis)
        elif how == "minimum":
            made = np.where(there, values, np.inf).min(axis)
        else:
            made = filled.sum(axis)
            if how != "sum":
                mean = made / count
                made = mean
                if how == "sd":
                    away = np.where(there, values - np.expand_dims(mean, axis), 0.0)
                    made = np.sqrt((away**2).sum(axis) / (count - 1))
    return np.where(count >= (2 if how == "sd" else 1), made, np.nan)
