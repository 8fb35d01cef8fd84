"""Slow changes and curves taken out of every voxel's course through time."""

from __future__ import annotations

from typing import Annotated

import numpy as np

from ...core.curve import Curve
from ...core.errors import Trouble
from ...core.image import Image
from ...core.left_out import LeftOut
from ...core.operation import operation
from ...core.parameter import Between, Unit
from ...core.progress import Progress, silent
from ...core.regressors import cosines, taken_out, told
from .one_series import time_of


@operation(
    "prepare",
    "Clean courses",
    name="clean-courses",
    keywords=(
        "high-pass filter drift regress out nuisance motion confounds series detrend detrending highpass low "
        "frequency drift nuisance regression confound "
    ),
    takes="series",
    version=2,
    group="Series",
    reach=0.0,
    through_time=True,
    called={"slower": "Slower than", "without": "Take out"},
    methods="Slow changes (slower than {slower}) and nuisance courses were removed together by least squares",
    cites=("Lindquist 2019",),
)
def clean_courses(
    image: Image,
    slower: Annotated[float | None, Unit("s"), Between(0, 1e6), LeftOut("none", was=0.0)] = None,
    without: list[Curve] | None = None,
    *,
    progress: Progress = silent(),
) -> Image:
    """Take slow changes and curves, such as those of the motion, out of every voxel's course, by least squares.

    All are taken out at once, so that none brings back what another took out (M. A. Lindquist et al., Hum. Brain Mapp.
    40, 2019). Each voxel keeps its mean. The series is read once; the cleaned volumes are worked out when they are
    looked at.

    Parameters
    ----------
    slower : s
        Changes of longer periods than this are taken out, by cosines; none when left out.
    without : curves
        With as many values as the series has volumes. Of a table all columns of numbers are taken but times, or those
        that are named behind it, as in motion.csv#trans_x,trans_y. What was taken out is noted with the image.

    Returns
    -------
    Image
        float32; a voxel that has no value in one volume has none in all.

    Raises
    ------
    Trouble
        When the image is no series in time, nothing is to be taken out, a curve does not fit, or so much is taken out
        that nothing would be left.
    """
    axis, slower = time_of(image), slower or 0.0
    slow = list(cosines(axis.size, axis.step if axis.unit == "s" else None, slower))
    basis = _basis(image, slow, without)
    shares = np.zeros((len(basis), *image.space.shape), np.float32)
    first: np.ndarray | None = None
    for n in range(axis.size):
        progress.at(n / axis.size, "Reading the series")
        values = image.frame((n,)).fetch(progress).astype(np.float32)
        if first is None:
            first = values
        away = values - first  # rows sum to zero, so this changes nothing, and small changes on large values stay
        for row, share in zip(basis, shares):
            share += np.float32(row[n]) * away

    def fetch(index: tuple[int, ...], progress: Progress) -> np.ndarray:
        values = image.frame(index).fetch(progress).astype(np.float32)
        for row, share in zip(basis, shares):
            values = values - np.float32(row[index[0]]) * share
        return np.asfortranarray(values)

    said = told(len(slow), slower, without)
    caveats = [*image.caveats, *([said] if said is not None else [])]
    return image.like(fetch, name=f"{image.name}, cleaned", caveats=caveats)


def _basis(image: Image, slow: list[np.ndarray], without: list[Curve] | None) -> np.ndarray:
    """What is taken out, as rows [m, t] of length 1 that stand square to each other and sum to zero."""
    axis = image.axes[0]
    rows = list(slow)
    rows += taken_out(without, axis.size, image.name)
    rows = [row / np.linalg.norm(row) for row in rows if np.linalg.norm(row) > 0]
    if not rows:
        raise Trouble(
            f"Nothing is to be taken out of “{image.name}”",
            "give a period in s that lies within its length, or curves that change",
        )
    _, sizes, basis = np.linalg.svd(np.array(rows), full_matrices=False)
    basis = basis[sizes > 1e-8 * sizes[0]]  # curves that say the same count once
    if len(basis) >= axis.size - 2:
        raise Trouble(f"{len(basis)} courses taken out of {axis.size} volumes leave nothing", "take fewer curves out")
    return basis
