"""A place whose course through time is looked at: a voxel, a ball about it, or a label."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated

import numpy as np

from ..core.axis import Axis
from ..core.errors import Trouble
from ..core.image import Image
from ..core.labels import LabelMap
from ..core.on_grid import require_same_grid
from ..core.parameter import Between, Unit
from ..core.progress import Progress, silent
from ..core.space import Space

Ball = Annotated[float, Unit("mm"), Between(0, 1e6)]
FEWEST = 3
"""Volumes that make a course."""


@dataclass(frozen=True)
class Seed:
    """Voxels [n, (i, j, k)] and what they are called."""

    voxels: np.ndarray
    name: str

    def course(self, image: Image, progress: Progress, whole: np.ndarray | None = None) -> np.ndarray:
        """The mean of its voxels in every volume, float64, NaN where none has a finite value; from `whole` when all are
        `held`."""
        i, j, k = self.voxels.T
        if whole is not None:
            ni, nj, _ = image.space.shape
            return means(whole[:, i + ni * (j + nj * k)])
        found = np.empty(time_axis(image).size)
        for n, values in enumerate(progress.over(volumes(image, progress), found.size, "Reading the course")):
            found[n] = means(values[i, j, k][None])[0]
        return found


def means(rows: np.ndarray) -> np.ndarray:
    """Means [n] along rows [n, t] of what is finite, float64; NaN where nothing is."""
    rows = rows.astype(np.float64)
    there = np.isfinite(rows)
    counts = there.sum(1)
    sums = np.where(there, rows, 0.0).sum(1)
    return np.where(counts > 0, sums / np.maximum(counts, 1), np.nan)


def seed_at(image: Image, labels: LabelMap, point, ball: float, label: str) -> Seed:
    """The seed that is meant: a label when one is named, else the ball, or the voxel, about a world position.

    Parameters
    ----------
    point : three mm, or None
    ball : mm
        Diameter; 0 for the voxel alone.

    Raises
    ------
    Trouble
        When neither is given, the point lies outside, or the label has no voxel.
    """
    if label:
        row = labels.table.named(label)
        require_same_grid(image, labels)
        voxels = np.argwhere(labels.data == row.number)
        if not len(voxels):
            raise Trouble(f"“{row.name}” has no voxel", "paint it first, or choose another label")
        return Seed(voxels, row.name)
    if point is None:
        raise Trouble("There is no place to follow", "give a point, or name a label")
    place = ", ".join(f"{v:.4g}" for v in point)
    voxel = image.space.nearest_voxel(point)
    if voxel is None:
        raise Trouble(f"The point ({place}) lies outside “{image.name}”", "choose a point inside the image")
    if ball <= 0:
        return Seed(np.array([voxel]), f"voxel at {place}")
    if image.space.unit == "px":
        raise Trouble(f"“{image.name}” has no scale, so a ball in mm means nothing", "set its voxel size first")
    inside = _ball(image.space, np.asarray(point, float), ball / 2)
    voxels = inside if len(inside) else np.array([voxel])
    return Seed(voxels, f"ball of {ball:g} mm at {place}")


def _ball(space: Space, centre: np.ndarray, radius: float) -> np.ndarray:
    """Voxels whose centres lie within a distance of a world position."""
    reach = np.ceil(radius * np.linalg.norm(space.inverse[:3, :3], axis=1) + 1)
    middle = space.to_voxel(centre)
    low = np.maximum(np.floor(middle - reach), 0).astype(int)
    high = np.minimum(np.ceil(middle + reach) + 1, space.shape).astype(int)
    found = []
    for k in range(low[2], high[2]):  # plane by plane: the box of a large ball may not fit into memory with its places
        index = np.stack(np.meshgrid(np.arange(low[0], high[0]), np.arange(low[1], high[1]), [k], indexing="ij"), -1)
        index = index.reshape(-1, 3)
        found.append(index[np.linalg.norm(space.to_world(index) - centre, axis=1) <= radius + 1e-9])
    return np.concatenate(found) if found else np.empty((0, 3), int)


def time_axis(image: Image) -> Axis:
    """The axis that a course runs along: the one called time, else the first. Raises Trouble when there is none, or it
    is too short."""
    if not image.axes or image.colour:
        raise Trouble(f"“{image.name}” has no course: it is one volume", "choose a series")
    axis = next((a for a in image.axes if a.name == "time"), image.axes[0])
    if axis.size < FEWEST:
        raise Trouble(f"“{image.name}” has {axis.size} {axis.plural}, too few for a course", "choose a longer series")
    return axis


def held(image: Image) -> np.ndarray | None:
    """All volumes along the time axis as rows [t, voxels], i running fastest, when they lie behind each other in memory
    or in a plain file as float32; None otherwise, and they are to be taken one after another."""
    first: np.ndarray | None = None
    count = 0
    for count, values in enumerate(volumes(image, silent()), 1):
        place = values.__array_interface__["data"][0]
        if first is None:
            if values.dtype != np.float32 or not values.flags.f_contiguous:
                return None
            first, start = values, place
        elif place != start + (count - 1) * first.nbytes or values.dtype != first.dtype:
            return None
    assert first is not None
    flat = first.reshape(-1, order="F")
    return np.lib.stride_tricks.as_strided(flat, (count, flat.size), (first.nbytes, 4), writeable=False)


def volumes(image: Image, progress: Progress):
    """The values [i, j, k] of every volume along the time axis, at the first place of every other axis; each is read
    when its turn comes."""
    wanted = image.axes.index(time_axis(image))
    for n in range(image.axes[wanted].size):
        yield image.stored(tuple(n if axis == wanted else 0 for axis in range(len(image.axes)))).exact()
