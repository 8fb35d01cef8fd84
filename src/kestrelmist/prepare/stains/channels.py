"""Channels of a picture: apart, together, and by other names."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ...core.axis import Axis
from ...core.errors import Trouble
from ...core.image import Image
from ...core.names import plain_name
from ...core.operation import operation
from ...core.placement import Placement
from ...core.progress import Progress
from ...core.values import colour_channels

COLOURS = ("red", "green", "blue")


@operation(
    "prepare",
    "Split channels",
    name="split-channels",
    keywords="apart separate colours red green blue fluorescence split rgb channels",
    takes="series colour",
    group="Sections",
)
def split_channels(image: Image) -> list[Image]:
    """Each channel of a picture as an image of its own; of a picture in colour, red, green and blue.

    Returns
    -------
    list of Image
        With the values as they are, in the order of the channels.

    Raises
    ------
    Trouble
        When it has one channel only.
    """
    if image.colour:
        return [_of_colour(image, n, name) for n, name in enumerate(COLOURS)]
    at = _channel_axis(image)
    along = image.axes[at]
    return [_of_axis(image, at, n, along.words(n)) for n in range(along.size)]


@operation(
    "prepare",
    "Merge channels",
    name="merge-channels",
    keywords="together combine stack fluorescence composite rgb overlay channels",
    group="Sections",
    called={"others": "With"},
    methods="Channels were merged",
)
def merge_channels(image: Image, others: list[Image], *, names: str = "") -> Image:
    """Several pictures on one grid as the channels of one.

    Parameters
    ----------
    others : images
        The second channel, and more.
    names : text
        Of the channels, with commas between them; those of the images when left out.

    Raises
    ------
    Trouble
        When there is one only, grids or units differ, or there are not as many names.
    """
    everyone = [image, *others]
    if len(everyone) < 2:
        raise Trouble("There is nothing to merge with", "name at least one other image")
    for one in others:
        if one.space != image.space:
            raise Trouble(f"“{one.name}” lies on another grid than “{image.name}”", "bring it onto that one first")
    labels = _names(names, len(everyone)) or tuple(plain_name(one.name.rpartition(", ")[2]) for one in everyone)
    units = {one.unit for one in everyone}
    axis = Axis("channel", len(everyone), labels=labels)

    unit = units.pop() if len(units) == 1 else ""

    def of(several: list[Image]) -> Image:
        def fetch(index: tuple[int, ...], progress: Progress):
            return several[index[-1]].stored(index[:-1], progress)

        made = several[0].like(fetch, axes=(axis,), unit=unit, name=f"{image.name}, merged")
        parts = [one.part for one in several]
        if all(part is not None for part in parts):
            made.part = lambda index, box: parts[index[-1]](index[:-1], box)  # type: ignore[misc]
        return made

    made = of(everyone)
    made.levels = [of(list(coarse)) for coarse in zip(*(one.levels for one in everyone))]
    return made


@operation(
    "prepare",
    "Name channels",
    name="name-channels",
    keywords="rename label fluorescence stain",
    takes="series",
    group="Sections",
)
def name_channels(image: Image, names: str) -> Placement:
    """Give the channels of a picture other names.

    Parameters
    ----------
    names : text
        In their order, with commas between them.

    Raises
    ------
    Trouble
        When it has one channel only, or there are not as many names.
    """
    at = _channel_axis(image)
    labels = _names(names, image.axes[at].size)
    if labels is None:
        raise Trouble("Channels need names", "give one for each, with commas between them")
    axes = tuple(replace(axis, labels=labels) if n == at else axis for n, axis in enumerate(image.axes))
    return Placement(image.space, axes=axes)


def _channel_axis(image: Image) -> int:
    found = [n for n, axis in enumerate(image.axes) if axis.name == "channel" and axis.size > 1]
    if not found:
        raise Trouble(f"“{image.name}” has one channel", "choose a picture with several")
    return found[0]


def _names(text: str, count: int) -> tuple[str, ...] | None:
    if not text.strip():
        return None
    found = tuple(plain_name(one) for one in text.split(","))
    if len(found) != count or not all(found):
        raise Trouble(f"{count} channels need {count} names", "give one for each, with commas between them")
    if len(set(found)) != count:
        raise Trouble("Two channels have the same name", "give each a name of its own")
    return found


def _of_axis(image: Image, at: int, n: int, name: str) -> Image:
    rest = tuple(axis for k, axis in enumerate(image.axes) if k != at)

    def of(level: Image) -> Image:
        def place(index: tuple[int, ...]) -> tuple[int, ...]:
            return (*index[:at], n, *index[at:])

        made = level.like(lambda i, p: level.stored(place(i), p), axes=rest, name=f"{image.name}, {name}")
        if (part := level.part) is not None:
            made.part = lambda i, box: part(place(i), box)
        return made

    made = of(image)
    made.levels = [of(level) for level in image.levels]
    return made


def _of_colour(image: Image, n: int, name: str) -> Image:
    def of(level: Image) -> Image:
        def one(got: np.ndarray) -> np.ndarray:
            return (got if got.dtype == np.uint8 else colour_channels(got))[..., n]

        made = level.like(
            lambda i, p: one(np.asarray(level.stored(i, p).values)), colour=False, name=f"{image.name}, {name}"
        )
        if (part := level.part) is not None:
            made.part = lambda i, box: one(np.asarray(part(i, box)))
        return made

    made = of(image)
    made.levels = [of(level) for level in image.levels]
    return made
