"""Colours of TIFF files: what their numbers stand for, and how they become red, green and blue."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial

import numpy as np

from ..core.caveat import NOTED, Caveat
from .colour_models import rgb_of_inks, rgb_of_ycbcr
from .planes import Planes

WHITE_IS_ZERO, RGB, PALETTE, INKS, YCBCR, LAB = 0, 2, 3, 5, 6, 8
DECODED_TO_RGB = (6, 7, 34892, 33003, 33004, 33005, 34712, 50001, 34927)
"""Compressions whose own decoder gives red, green and blue: the JPEG and JPEG 2000 families, WebP."""
NAMES = {
    RGB: ("red", "green", "blue", "opacity"),
    YCBCR: ("luma", "blue difference", "red difference"),
    INKS: ("cyan", "magenta", "yellow", "black"),
    LAB: ("lightness", "green to red", "blue to yellow"),
}
Convert = Callable[[np.ndarray], np.ndarray]


def in_colours(planes: Planes, page) -> tuple[Planes, list[Caveat]]:
    """A level whose numbers stand for colours as one of red, green and blue, and what is to be said of it; other levels
    as they are."""
    model = int(page.photometric)
    if model == WHITE_IS_ZERO and planes.dtype != bool:
        return planes, [Caveat(NOTED, "The file says that 0 is white: small values are light in it")]
    if model == PALETTE and "s" not in planes.axes and planes.dtype.kind == "u" and page.colormap is not None:
        return _by_palette(planes, np.asarray(page.colormap))
    at = planes.axes.find("s")
    samples = planes.shape[at] if at >= 0 else 0
    if planes.dtype != np.uint8 or samples not in (3, 4):
        return planes, []
    if model == RGB or (model == YCBCR and int(page.compression) in DECODED_TO_RGB):
        return replace(planes, colour=True), []
    if model == YCBCR and samples == 3:
        tag = page.tags.get("YCbCrCoefficients")
        given = np.array(tag.value if tag else (299, 1000, 587, 1000, 114, 1000), float)
        parts = given[::2] / given[1::2] if len(given) == 6 else given
        return _converted(planes, at, partial(rgb_of_ycbcr, parts=tuple(parts))), []
    if model == INKS and samples == 4:
        said = "Its colours are those of inks (CMYK), turned into red, green and blue without a profile"
        return _converted(planes, at, rgb_of_inks), [Caveat(NOTED, said)]
    return planes, []


def sample_names(page, size: int) -> tuple[str, ...]:
    """What the numbers of a pixel are called; nothing when the file does not say."""
    names = NAMES.get(int(page.photometric), ())
    if int(page.photometric) == YCBCR and int(page.compression) in DECODED_TO_RGB:
        names = NAMES[RGB]
    return names[:size] if size in (3, 4) and len(names) >= size else ()


def _converted(planes: Planes, at: int, convert: Convert) -> Planes:
    shape = (*planes.shape[:at], 3, *planes.shape[at + 1 :])

    def read(selection: tuple) -> np.ndarray:
        whole = (*selection[:at], slice(None), *selection[at + 1 :])
        got = np.asarray(planes.read(whole))
        place = sum(isinstance(s, slice) for s in selection[:at])
        return np.moveaxis(convert(np.moveaxis(got, place, -1)), -1, place)[_placed(selection[at], place)]

    return replace(planes, read=read, shape=shape, colour=True)


def _placed(pick, place: int) -> tuple:
    return (*(slice(None),) * place, pick)


def _by_palette(planes: Planes, palette: np.ndarray) -> tuple[Planes, list[Caveat]]:
    """Numbers as the colours that the file's palette has for them; as brightness when all of them are grey."""
    table = (palette >> 8 if palette.max(initial=0) > 255 else palette).astype(np.uint8).T
    grey = not np.any(table != table[:, :1])
    if grey and np.array_equal(table[:, 0], np.arange(len(table))):
        return planes, []
    table = table[:, 0] if grey else table
    said = "Its numbers stand for colours of a palette, and are read as these; as labels, the numbers themselves are"
    if grey:
        read = lambda selection: table[np.asarray(planes.read(selection))]  # noqa: E731
        return replace(planes, read=read, dtype=np.dtype(np.uint8)), [Caveat(NOTED, said)]

    def read_colours(selection: tuple) -> np.ndarray:
        return table[np.asarray(planes.read(selection[:-1]))][..., selection[-1]]

    axes, shape = planes.axes + "s", (*planes.shape, 3)
    made = replace(planes, read=read_colours, axes=axes, shape=shape, dtype=np.dtype(np.uint8), colour=True)
    return made, [Caveat(NOTED, said)]
