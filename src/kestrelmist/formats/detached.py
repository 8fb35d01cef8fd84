"""Headers that lie apart from their values, and what they say of lengths."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path

import numpy as np

from ..core.caveat import SCALE_UNSURE, Caveat
from ..core.errors import Trouble
from ..core.quantity import nanometres
from .raw_values import RawValues

MOST_TEXT = 1 << 28
"""Bytes of numbers written as text."""
MILLIMETRES = ("", "mm", "millimeter", "millimeters", "millimetre", "millimetres")


def values_beside(header: Path, named: str) -> Path:
    """The file of values that a header names: beside it or below, as a header from elsewhere may name any file.

    Raises
    ------
    Trouble
        When it lies elsewhere.
    """
    home, place = os.path.abspath(header.parent), os.path.abspath(header.parent / named)
    if os.path.commonpath([home, place]) != home or "\0" in named:
        raise Trouble(
            f"This header names values outside its folder ({named[:80]}), which are not opened",
            "put them beside it, and name them without their folder",
            header,
        )
    return Path(place)


def text_values(path: Path, start: int, dtype: np.dtype, shape: Sequence[int], base: int = 10) -> RawValues:
    """Values that are written as text from a byte on, as numbers with space between, or as bytes in base 16.

    Raises
    ------
    Trouble
        When there are fewer than the header promises, or they are no numbers.
    """
    count = int(np.prod(tuple(shape), dtype=object))
    if not 0 < count <= path.stat().st_size or path.stat().st_size > MOST_TEXT:
        raise Trouble("The header of this file promises more values than it can hold", "copy it again", path)
    text = path.read_bytes()[start:]
    try:
        if base == 16:
            flat = np.frombuffer(bytes.fromhex("".join(text.decode("ascii").split())), dtype)
        else:
            flat = np.array(text.split(), dtype)
    except (ValueError, OverflowError) as error:
        raise Trouble("The values of this file are no numbers of their type", "copy it again", path) from error
    if flat.size < count:
        raise Trouble(f"This file is cut short: {flat.size} of {count} values are there", "copy it again", path)
    values = RawValues(path, start, dtype, tuple(shape))
    values._whole = flat[:count].reshape(tuple(shape), order="F")
    return values


def millimetres_of(units: Sequence[str], count: int) -> tuple[list[float], list[Caveat]]:
    """Millimetres in one of the unit of each of so many axes, and what is doubtful about them: a unit that is no length
    is taken for mm, and said."""
    factors: list[float] = []
    caveats: list[Caveat] = []
    for n in range(count):
        unit = units[n].strip().strip('"') if n < len(units) else ""
        factor = 1.0 if unit.casefold() in MILLIMETRES else nanometres(unit)
        if factor is None:
            said = f"The file gives lengths in “{unit[:40]}”, which is no length; they are taken for mm"
            caveats += [Caveat(SCALE_UNSURE, said)] if said not in [c.sentence for c in caveats] else []
        factors.append(1.0 if factor is None or unit.casefold() in MILLIMETRES else factor * 1e-6)
    return factors, caveats
