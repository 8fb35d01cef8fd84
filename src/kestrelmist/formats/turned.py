"""Pictures whose file says that they are to be turned: the orientation tag of TIFF and EXIF."""

from __future__ import annotations

import struct
from dataclasses import replace

import numpy as np

from ..core.caveat import NOTED, Caveat
from .planes import Planes

ORIENTATION = 274
SAID = Caveat(NOTED, "The picture is turned or mirrored as the orientation tag of its file says")
FLIPS = {1: "", 2: "x", 3: "xy", 4: "y", 5: "", 6: "x", 7: "xy", 8: "y"}
"""Which axes of the picture as it is seen run backwards, after rows and columns change places from 5 on."""


def turned_planes(planes: Planes, orientation: int) -> Planes:
    """Planes as they are to be seen, of planes as they are stored.

    References
    ----------
    TIFF 6.0 specification, Orientation; EXIF 2.3 takes it over.
    """
    if orientation not in FLIPS or orientation == 1 or not {"x", "y"} <= set(planes.axes):
        return planes
    axes = planes.axes.translate(str.maketrans("xy", "yx")) if orientation >= 5 else planes.axes
    backwards = [axes.index(letter) for letter in FLIPS[orientation]]
    shape = planes.shape

    def read(selection: tuple) -> np.ndarray:
        pick, flips, place = list(selection), [], 0
        for n, s in enumerate(selection):
            if n in backwards:
                pick[n] = _from_the_end(s, shape[n])
                flips += [place] if isinstance(s, slice) else []
            place += isinstance(s, slice)
        return np.flip(np.asarray(planes.read(tuple(pick))), tuple(flips)) if flips else planes.read(tuple(pick))

    return replace(planes, axes=axes, read=read) if backwards else replace(planes, axes=axes)


def _from_the_end(pick, size: int):
    if not isinstance(pick, slice):
        return size - 1 - pick
    places = range(*pick.indices(size))
    if not places:
        return slice(0, 0)
    return slice(size - 1 - places[-1], size - places[0], places.step)


def turned(picture: np.ndarray, orientation: int) -> np.ndarray:
    """A picture, [row, column] and perhaps colours, as it is to be seen."""
    if orientation not in FLIPS:
        return picture
    seen = picture.swapaxes(0, 1) if orientation >= 5 else picture
    return seen[:: -1 if "y" in FLIPS[orientation] else 1, :: -1 if "x" in FLIPS[orientation] else 1]


def exif_orientation(data: bytes) -> int:
    """The orientation that a JPEG or PNG file gives in its EXIF facts; 1 when it gives none.

    References
    ----------
    EXIF 2.3 (CIPA DC-008); the eXIf chunk of the PNG specification, third edition.
    """
    start = -1
    if data[:2] == b"\xff\xd8":
        at = data.find(b"Exif\0\0", 0, 1 << 16)
        start = at + 6 if at >= 0 else -1
    elif data[:4] == b"\x89PNG":
        at = 8
        while at + 12 <= len(data):
            (length,), kind = struct.unpack(">I", data[at : at + 4]), data[at + 4 : at + 8]
            if kind == b"eXIf":
                start = at + 8
                break
            at += 12 + length
    return _orientation_in(data[start : start + (1 << 16)]) if start >= 0 else 1


def _orientation_in(facts: bytes) -> int:
    order = {b"II": "<", b"MM": ">"}.get(facts[:2])
    if order is None or len(facts) < 8:
        return 1
    (at,) = struct.unpack(order + "I", facts[4:8])
    if at + 2 > len(facts):
        return 1
    (count,) = struct.unpack(order + "H", facts[at : at + 2])
    for n in range(min(count, 200)):
        entry = facts[at + 2 + 12 * n : at + 14 + 12 * n]
        if len(entry) == 12 and struct.unpack(order + "H", entry[:2])[0] == ORIENTATION:
            (found,) = struct.unpack(order + "H", entry[8:10])
            return found if found in FLIPS else 1
    return 1
