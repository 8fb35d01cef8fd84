"""Courses of one series at once: its volumes are held in memory while there is room, so that a course follows the
pointer."""

from __future__ import annotations

import numpy as np

from ..core.budget import BUDGET
from ..core.image import Image
from ..core.progress import Progress
from .seed import Seed, time_axis

SHARE = 0.5
"""Part of what may be kept in memory that one series may fill."""
AT_ONCE = 200_000
"""Values that are read at once while somebody waits."""


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
        place = place or (0,) * len(image.axes)
        self._frames = [
            image.frame(tuple(n if k == along else p for k, p in enumerate(place))) for n in range(self.axis.size)
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

    def quick(self, seed: Seed) -> bool:
        """Whether the course of a seed takes no time worth speaking of."""
        return self.ready and len(seed.voxels) * self.axis.size <= AT_ONCE

    def course(self, seed: Seed, progress: Progress) -> np.ndarray:
        """The mean of the voxels of a seed in every volume, float64, NaN where none has a finite value."""
        if not self.ready:
            return seed.course(self.image, progress)
        i, j, k = seed.voxels.T
        found = np.empty(self.axis.size)
        for n, frame in enumerate(self._frames):
            values = np.asarray(frame.data[i, j, k], np.float64)
            values = values[np.isfinite(values)]
            found[n] = values.mean() if values.size else np.nan
        return found
