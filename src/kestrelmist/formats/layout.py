"""From the axes of a file's array to the axes of an image: space first, then time and the like, colours last."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..core.progress import Progress
from ..core.values import Stored
from .raw_values import RawValues


@dataclass
class Layout:
    """Which axes of a raw array are what.

    Parameters
    ----------
    raw : RawValues
    space : tuple of int
        Axes of the array that run along i, j, k; -1 for one that is not there.
    along : tuple of int
        Axes that become the image's own axes, in order.
    colours : int or None
        Axis of red, green, blue.
    slope, intercept : float
    """

    raw: RawValues
    space: tuple[int, int, int]
    along: tuple[int, ...] = ()
    colours: int | None = None
    slope: float = 1.0
    intercept: float = 0.0
    step: int = 1
    """Only every `step`th voxel along each axis of space, for a quick look at what is too large."""

    def fetch(self, index: tuple[int, ...], progress: Progress):
        """One volume; see `kestrelmist.core.image.Fetch`."""
        whole = self.raw.whole(progress)
        pick: list = [0] * whole.ndim
        for axis in (a for a in self.space if a >= 0):
            pick[axis] = slice(None, None, self.step)
        if self.colours is not None:
            pick[self.colours] = slice(None)
        for axis, n in zip(self.along, index):
            pick[axis] = n
        volume = whole[tuple(pick)]
        kept = [axis for axis, p in enumerate(pick) if isinstance(p, slice)]
        order = [kept.index(a) for a in self.space if a >= 0] + ([kept.index(self.colours)] if self.colours is not None else [])
        volume = volume.transpose(order)
        shape = tuple(-(-whole.shape[a] // self.step) if a >= 0 else 1 for a in self.space)
        if self.colours is not None:
            return np.asarray(volume).reshape(*shape, volume.shape[-1])[..., :3]
        return Stored(volume.reshape(shape, order="F"), self.slope, self.intercept)
