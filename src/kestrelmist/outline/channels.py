"""The channels of an image one by one, of which parts are read: also of pictures larger than memory."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from ..core.errors import Trouble
from ..core.image import Image
from ..core.progress import Progress

COLOURS = ("red", "green", "blue")
ALONG = ("channel", "contrast", "echo", "detector")
"""Axes whose places are channels."""
Part = tuple[slice, slice, slice]
Box = tuple[int, int, int, int]


@dataclass(frozen=True)
class Channel:
    """Values of one channel, as an array [k, j, i] that is read where it is looked at.

    Parameters
    ----------
    image : Image
        One volume, or one in colour.
    colour : 0, 1 or 2, optional
        Red, green or blue of one in colour.
    last : dict
        The part of a picture that was read last, by its box: shared by channels of one picture, which are asked for one
        by one.
    """

    image: Image
    name: str
    colour: int | None = None
    last: dict[Box, np.ndarray] = field(default_factory=dict, compare=False, repr=False)

    @property
    def shape(self) -> tuple[int, int, int]:
        """Along k, j, i."""
        i, j, k = self.image.space.shape
        return k, j, i

    @property
    def size(self) -> int:
        """How many voxels there are."""
        k, j, i = self.shape
        return k * j * i

    def __getitem__(self, part: Part) -> np.ndarray:
        """Values of a part."""
        image = self.image
        if image.part is not None and not image.in_memory and image.space.shape[2] == 1:
            j, i = part[1].indices(self.shape[1]), part[2].indices(self.shape[2])
            read = self._read((i[0], i[1], j[0], j[1]))
            if self.colour is not None:
                read = read[..., self.colour]
            return read.reshape(i[1] - i[0], j[1] - j[0], 1).T[:, :: j[2], :: i[2]]
        found = image.kji[part]
        return found if self.colour is None else ((found >> (16 - 8 * self.colour)) & 255).astype(np.uint8)

    def _read(self, box: Box) -> np.ndarray:
        assert self.image.part is not None
        found = self.last.get(box)
        if found is None:
            found = np.asarray(self.image.part((), box))
            self.last.clear()
            self.last[box] = found
        return found


def channels_of(image: Image, progress: Progress) -> list[Channel]:
    """The channels of an image: those of a series along channels, red, green and blue of colours, or the one there is.

    Raises
    ------
    Trouble
        When it is a series along something else.
    """
    if image.axes:
        axis = image.axes[0]
        if len(image.axes) > 1 or axis.name not in ALONG:
            size = " × ".join(f"{a.size} {a.plural}" for a in image.axes)
            raise Trouble(f"“{image.name}” is a series ({size})", "choose one volume of it, as in “name@3”")
        found = [Channel(image.frame((n,)), axis.words(n)) for n in range(axis.size)]
    elif image.colour:
        last: dict[Box, np.ndarray] = {}
        found = [Channel(image, name, n, last) for n, name in enumerate(COLOURS)]
    else:
        found = [Channel(image, "")]
    for one in found:
        if one.image.part is None or one.image.space.shape[2] > 1:
            one.image.fetch(progress)
    return found


def channel_named(image: Image, name: str, progress: Progress) -> Channel:
    """The channel of a name or a number, counted from 1; raises Trouble when there is none."""
    return chosen(channels_of(image, progress), name, image)


def chosen(several: list[Channel], name: str, image: Image) -> Channel:
    """One of an image's channels by name or number; raises Trouble when there is none."""
    for one in several:
        if one.name.casefold() == name.strip().casefold():
            return one
    if name.strip().isdigit() and 1 <= int(name) <= len(several):
        return several[int(name) - 1]
    have = ", ".join(f"{n} {one.name}".strip() for n, one in enumerate(several, 1))
    raise Trouble(f"“{image.name}” has no channel “{name}”", f"choose one of: {have}")
