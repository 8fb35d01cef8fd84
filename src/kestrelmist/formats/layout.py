"""From the axes of a file's array to the axes of an image: space first, then time and the like, colours last."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

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

    def as_dict(self, files: list[Path]) -> dict | None:
        """What it takes to read the values again without the header, with the file by its number among `files`; None
        when the values are not numbers in one of them."""
        if self.raw.path not in files or self.raw._whole is not None and self.raw.dtype.hasobject:
            return None
        raw = self.raw
        return {
            "file": files.index(raw.path),
            "size": raw.path.stat().st_size,
            "offset": raw.offset,
            "type": raw.dtype.str,
            "shape": list(raw.shape),
            "packing": raw.packing,
            "start": raw.start,
            "space": list(self.space),
            "along": list(self.along),
            "colours": self.colours,
            "scale": [self.slope, self.intercept],
        }

    @classmethod
    def from_dict(cls, facts: dict, files: list[Path]) -> Layout | None:
        """Read back; None when the file is not the size it was, so that its header has to be looked at anew."""
        path = files[facts["file"]]
        if path.stat().st_size != facts["size"]:
            return None
        raw = RawValues(
            path, facts["offset"], np.dtype(facts["type"]), tuple(facts["shape"]), facts["packing"], facts["start"]
        )
        i, j, k = facts["space"]
        return cls(raw, (i, j, k), tuple(facts["along"]), facts["colours"], *facts["scale"])

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
        order = [kept.index(a) for a in self.space if a >= 0] + (
            [kept.index(self.colours)] if self.colours is not None else []
        )
        volume = volume.transpose(order)
        shape = tuple(-(-whole.shape[a] // self.step) if a >= 0 else 1 for a in self.space)
        if self.colours is not None:
            return np.asarray(volume).reshape(*shape, volume.shape[-1])[..., :3]
        return Stored(volume.reshape(shape, order="F"), self.slope, self.intercept)
