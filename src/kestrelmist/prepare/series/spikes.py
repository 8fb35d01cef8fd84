"""Single volumes in which a voxel's course jumps away and back: told, and replaced."""

from __future__ import annotations

from typing import Annotated, NamedTuple

import numpy as np

from ...core.curve import COLOURS, Curve
from ...core.errors import Trouble
from ...core.image import Image
from ...core.operation import operation
from ...core.parameter import Between
from ...core.progress import Progress, silent
from .one_series import time_of

REACH = 2
"""Volumes to each side whose median a value is compared with."""
NORMAL = float(np.sqrt(np.pi / 2) / np.sqrt(1.5))
"""From the mean size of a value less the mean of its two neighbours to a standard deviation."""


class Despiked(NamedTuple):
    """The series without spikes, and the share of voxels that were replaced in each volume."""

    image: Image
    replaced: Curve


@operation(
    "prepare",
    "Take spikes out",
    name="despike",
    keywords="spike outlier hampel course series volume despiking spikes outliers",
    takes="series",
    group="Series",
    reach=0.0,
    through_time=True,
    called={"limit": "Spread beyond"},
    methods="Values further than {limit} standard deviations from the median of five volumes were replaced by it",
    cites=("Hampel 1974",),
)
def despike(image: Image, limit: Annotated[float, Between(1, 100)] = 4.0, *, progress: Progress = silent()) -> Despiked:
    """Replace what jumps away from a voxel's course and comes back: a value further from the median of five volumes
    than so many standard deviations takes that median (F. R. Hampel, J. Am. Stat. Assoc. 69, 1974).

    The standard deviation of a voxel is told by how much its values differ from the mean of the volume before and the
    one after, so that slow changes do not count. The series is read twice; volumes are worked out when they are looked
    at.

    Parameters
    ----------
    limit : number
        Standard deviations beyond which a value is a spike.

    Returns
    -------
    image : Image
        float32; voxels without a value stay without.
    replaced : Curve
        Per cent of the voxels, for each volume.

    Raises
    ------
    Trouble
        When the image is no series in time, or has fewer than five volumes.
    """
    count = time_of(image).size
    if count < 2 * REACH + 1:
        raise Trouble(f"“{image.name}” has {count} volumes, too few to tell a spike", "choose a longer series")
    spread = _spread(image, count, progress.part(0.0, 0.4))
    window = _Window(image, count)
    shares = np.empty(count)
    for n in range(count):
        progress.at(0.4 + 0.6 * n / count, "Seeking spikes")
        values, middle = window.at(n, progress)
        shares[n] = 100 * float(np.mean(np.abs(values - middle) > limit * spread))
    curve = Curve.over(
        image.axes[0],
        shares,
        unit="%",
        of=f"spikes of {image.name}",
        colour=COLOURS[3],
        name=f"replaced in {image.name}",
        subject=image.subject,
    )

    def fetch(index: tuple[int, ...], progress: Progress) -> np.ndarray:
        values, middle = _Window(image, count).at(index[0], progress)
        return np.asfortranarray(np.where(np.abs(values - middle) > limit * spread, middle, values))

    return Despiked(image.like(fetch, name=f"{image.name}, without spikes"), curve)


def _spread(image: Image, count: int, progress: Progress) -> np.ndarray:
    total = np.zeros(image.space.shape, np.float32)
    near: list[np.ndarray] = []
    for n in range(count):
        progress.at(n / count, "Reading the series")
        near = [*near[-2:], image.frame((n,)).fetch(progress).astype(np.float32)]
        if len(near) == 3:
            total += np.abs(near[1] - (near[0] + near[2]) / 2)
    return total / np.float32(max(count - 2, 1)) * np.float32(NORMAL)


class _Window:
    """The volumes near one, read once while it moves on."""

    def __init__(self, image: Image, count: int):
        self.image, self.count = image, count
        self.held: dict[int, np.ndarray] = {}

    def at(self, n: int, progress: Progress) -> tuple[np.ndarray, np.ndarray]:
        """The values of a volume, and the median of it and its neighbours."""
        first = min(max(n - REACH, 0), self.count - 2 * REACH - 1)
        wanted = range(first, first + 2 * REACH + 1)
        self.held = {m: v for m, v in self.held.items() if m in wanted}
        for m in wanted:
            if m not in self.held:
                self.held[m] = self.image.frame((m,)).fetch(progress).astype(np.float32)
        return self.held[n], np.median(np.stack([self.held[m] for m in wanted]), 0)
