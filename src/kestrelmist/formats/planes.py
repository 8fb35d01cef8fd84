"""Pictures and stacks that a library gives plane by plane, with named axes: common ground of TIFF, OME-Zarr and
pictures."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ..core.errors import Trouble
from ..core.image import Image
from ..core.memory import require_room
from ..core.progress import Progress

AXIS_NAMES = {"t": "time", "c": "channel", "s": "channel", "i": "page", "q": "page", "z": "slice"}


@dataclass
class Planes:
    """An array whose axes have letters, read piece by piece.

    Parameters
    ----------
    read : callable
        `read(selection)` gives the part of the array that a tuple of ints and slices picks.
    axes : str
        A letter for each axis of the array: x, y, z in space, s for colours, others for the image's own axes.
    shape : tuple of int
    dtype : numpy type
    """

    read: Callable[[tuple], np.ndarray]
    axes: str
    shape: tuple[int, ...]
    dtype: np.dtype
    colour: bool = False
    step: int = 1
    """Only every `step`th pixel along each axis of space."""

    @property
    def along(self) -> list[int]:
        """Axes of the array that become the image's own, the one that runs fastest in the file first."""
        return [
            n
            for n, letter in reversed(list(enumerate(self.axes)))
            if letter not in "xyz" and self.shape[n] > 1 and not (self.colour and letter == "s")
        ]

    def size(self, letter: str) -> int:
        return self.shape[self.axes.index(letter)] if letter in self.axes else 1

    def space(self) -> tuple[int, int, int]:
        x, y, z = (-(-self.size(letter) // self.step) for letter in "xyz")
        return x, y, z

    def fetch(self, index: tuple[int, ...], progress: Progress) -> np.ndarray:
        """One volume; see `kestrelmist.core.image.Fetch`."""
        bytes_needed = int(np.prod(self.space(), dtype=object)) * max(self.dtype.itemsize, 4 if self.colour else 1)
        require_room(bytes_needed, "This image")
        pick: list = [0] * len(self.shape)
        for axis, n in zip(self.along, index):
            pick[axis] = n
        kept = [n for n, letter in enumerate(self.axes) if letter in "xyz" or (self.colour and letter == "s")]
        for n in kept:
            pick[n] = slice(None) if self.axes[n] == "s" or self.step == 1 else slice(None, None, self.step)
        depth = self.size("z")
        if depth > 1 and bytes_needed > 1 << 26:  # slice by slice, so that the work can be watched and stopped
            z = self.axes.index("z")
            parts = []
            for k in range(0, depth, self.step):
                progress.at(k / depth, "Reading slices")
                pick[z] = slice(k, k + 1)
                parts.append(np.asarray(self.read(tuple(pick))))
            got = np.concatenate(parts, kept.index(z))
        else:
            got = np.asarray(self.read(tuple(pick)))
        letters = [self.axes[n] for n in kept]
        for letter in "xyz":
            if letter not in letters:
                got, letters = got[..., None], [*letters, letter]
        order = [letters.index(letter) for letter in ("x", "y", "z", *("s" if self.colour else ""))]
        got = got.transpose(order)
        if got.dtype.kind == "c":
            raise Trouble("This image holds complex numbers", "save its magnitude and phase apart")
        return got[..., :3] if self.colour else got

    def part(self, index: tuple[int, ...], box: tuple[int, int, int, int]) -> np.ndarray:
        """A part of a picture of one slice, [i, j, 1]; see `kestrelmist.core.image.Part`."""
        i0, i1, j0, j1 = (n * self.step for n in box)
        pick: list = [0] * len(self.shape)
        for axis, n in zip(self.along, index):
            pick[axis] = n
        kept = [n for n, letter in enumerate(self.axes) if letter in "xy" or (self.colour and letter == "s")]
        for n in kept:
            low, high = {"x": (i0, i1), "y": (j0, j1)}.get(self.axes[n], (0, self.shape[n]))
            pick[n] = slice(low, min(high, self.shape[n]), self.step if self.axes[n] in "xy" else 1)
        got = np.asarray(self.read(tuple(pick)))
        letters = [self.axes[n] for n in kept]
        got = got.transpose([letters.index(letter) for letter in ("x", "y", *("s" if self.colour else ""))])
        return got[:, :, None, :3] if self.colour else got[:, :, None]


def in_parts(image: Image, planes: Planes) -> Image:
    """The image itself, of which parts can be read from now on when it is a picture of one slice."""
    if image.space.shape[2] == 1:
        image.part = planes.part
    return image


def deep_enough(shape, stored: int, dtype: np.dtype, path) -> None:
    """Raises Trouble when a header promises more than `stored` bytes can hold however well they are packed."""
    promised = int(np.prod(shape, dtype=object)) * dtype.itemsize
    if promised <= 0 or promised > 1100 * max(stored, 4096):
        raise Trouble("The header of this file promises more values than it can hold", "copy it again", path)
