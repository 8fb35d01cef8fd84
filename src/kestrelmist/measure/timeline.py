"""Courses of one series at once: its volumes are held in memory while there is room, so that a course follows the
pointer."""

from __future__ import annotations

import numpy as np

from ..core.budget import BUDGET
from ..core.image import Image
from ..core.progress import Progress
from .seed import Seed, means, time_axis

SHARE = 0.5
"""Part of what may be kept in memory that one series may fill."""
AT_ONCE = 200_000
"""Values that are read at once while somebody waits."""


def others_of(image: Image, place: tuple[int, ...]) -> tuple[int, ...]:
    """A place along the axes of a series, with 0 along its time axis: two that are alike lie on one course."""
    along = image.axes.index(time_axis(image))
    place = place or (0,) * len(image.axes)
    return tuple(0 if k == along else n for k, n in enumerate(place))


class Timeline:
    """The volumes of a series along its time axis.

    Parameters
    ----------
    image : Image
        A series; raises Trouble when it is none.
    place : tuple of int
        Where along its other axes.
    """

    def __init__(self, image: Image, place: tuple[int, ...] = ()):
        self.image, self.axis = image, time_axis(image)
        along = image.axes.index(self.axis)
        self.others = others_of(image, place)
        self._frames = [
            image.frame(tuple(n if k == along else p for k, p in enumerate(self.others))) for n in range(self.axis.size)
        ]

    @property
    def fits(self) -> bool:
        """Whether all of it may be held in memory."""
        return self.axis.size * int(np.prod(self.image.space.shape)) * 4 <= SHARE * BUDGET.limit

    @property
    def ready(self) -> bool:
        """Whether all of it is in memory, or in a file that is mapped into it."""
        return all(frame.in_memory for frame in self._frames)

    def load(self, progress: Progress) -> None:
        """Fetch every volume, when there is room for all."""
        if self.fits:
            for frame in progress.over(self._frames, self.axis.size, "Reading the series"):
                frame.fetch(progress)

    def quick(self, voxels: int) -> bool:
        """Whether the course of so many voxels takes no time worth speaking of."""
        return self.ready and voxels * self.axis.size <= AT_ONCE

    def course(self, seed: Seed, progress: Progress) -> np.ndarray:
        """The mean of the voxels of a seed in every volume, float64, NaN where none has a finite value."""
        i, j, k = seed.voxels.T
        found = np.empty(self.axis.size)
        for n, frame in enumerate(progress.over(self._frames, self.axis.size, "Reading the course")):
            # what is not in memory is read and let go again: a series that does not fit is not gathered there
            values = frame.data if frame.in_memory else frame.stored(progress=progress).exact()
            found[n] = means(values[i, j, k][None])[0]
        return found
