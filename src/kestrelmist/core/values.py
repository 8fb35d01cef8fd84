"""Voxel values in the forms the program keeps them: as stored in a file, as kernels take them, as packed colours."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from .errors import Trouble

KERNEL_TYPES = (np.uint8, np.int16, np.uint16, np.float32)
"""Number types the compiled kernels are built for; others are widened to float32 for work, never for conversion."""


@dataclass(frozen=True)
class Stored:
    """Values as a file holds them: the number is `slope` × stored + `intercept`."""

    values: np.ndarray
    slope: float = 1.0
    intercept: float = 0.0

    @property
    def plain(self) -> bool:
        """Whether stored numbers are the values themselves."""
        return self.slope == 1.0 and self.intercept == 0.0

    def exact(self) -> np.ndarray:
        """The numbers themselves, in a type that holds each of them (float64 when scaled by a fraction)."""
        if self.plain:
            return self.values
        if self.slope == 1.0 and self.intercept == int(self.intercept) and self.values.dtype.kind in "iu":
            low, high = (int(v) + int(self.intercept) for v in extremes(self.values))
            for kind in (np.uint8, np.int16, np.uint16, np.int32, np.int64):
                if np.iinfo(kind).min <= low and high <= np.iinfo(kind).max:
                    return (self.values.astype(np.int64) + int(self.intercept)).astype(kind)
        return self.values.astype(np.float64) * self.slope + self.intercept


def holds(kind: np.dtype | type, number: float) -> bool:
    """Whether a number type holds a number exactly, or as near as its digits go when it is no whole one."""
    kind = np.dtype(kind)
    if kind.kind == "f":
        # the nearest of a fraction is all there ever is; of a whole number another one would be read
        return not math.isfinite(number) or number != int(number) or float(kind.type(number)) == number
    ends = np.iinfo(kind)
    return math.isfinite(number) and number == int(number) and ends.min <= number <= ends.max


def type_holding(kind: np.dtype | type, *numbers: float) -> np.dtype:
    """The smallest number type that holds all of a type's values and some numbers besides; float32 when no type of
    whole numbers does.

    Raises Trouble for a whole number that float32 cannot hold either.
    """
    kind = np.dtype(kind)
    whole = (kind, *(np.dtype(k) for k in KERNEL_TYPES if np.can_cast(kind, k) and np.dtype(k).kind != "f"))
    for one in whole if kind.kind in "iu" else ():
        if all(holds(one, number) for number in numbers):
            return one
    single = np.dtype(np.float32)
    wrong = next((number for number in numbers if not holds(single, number)), None)
    if wrong is not None:
        raise Trouble(f"{wrong:.15g} cannot be held among these values", f"{float(np.float32(wrong)):.15g} can")
    return single if kind.kind != "f" or kind.itemsize <= 4 else kind


def extremes(values: np.ndarray) -> tuple[float, float]:
    """Lowest and highest value, NaN left out; (0, 0) when there is none."""
    if values.dtype.kind == "f":
        values = values[np.isfinite(values)]
    return (values.min(), values.max()) if values.size else (0, 0)


def kernel_ready(data, shape: tuple[int, int, int], colour: bool = False) -> np.ndarray:
    """Values as the kernels take them: one of KERNEL_TYPES (packed uint32 when `colour`), i fastest in memory.

    Raises ValueError when they do not fill `shape`.
    """
    if isinstance(data, Stored):
        data = _scaled(data)
    data = np.asarray(data)
    if colour and data.dtype == np.uint8:
        data = packed_colours(data)
    if data.shape != tuple(shape):
        raise ValueError(f"values of shape {data.shape} do not fill a space of shape {shape}")
    if not colour and (data.dtype not in KERNEL_TYPES or not data.dtype.isnative):
        fits = {"int8": np.int16, "bool": np.uint8, "int16": np.int16, "uint16": np.uint16}.get(
            data.dtype.name, np.float32
        )
        with np.errstate(over="ignore"):
            data = data.astype(fits, order="F")
    return data if data.T.flags.c_contiguous else np.asfortranarray(data)


def _scaled(stored: Stored) -> np.ndarray:
    if stored.plain:
        return stored.values
    if stored.slope == 1.0 and stored.intercept == int(stored.intercept) and stored.values.dtype.kind in "iu":
        exact = stored.exact()
        return exact if exact.dtype in KERNEL_TYPES else exact.astype(np.float32)
    out = stored.values.astype(np.float32)
    out *= np.float32(stored.slope)
    out += np.float32(stored.intercept)
    return out


def packed_colours(rgb: np.ndarray) -> np.ndarray:
    """uint8 [..., 3] (or [..., 4], whose last is left out) as packed colours 0xFFRRGGBB, uint32 [...]."""
    packed = np.full(rgb.shape[:-1], 0xFF000000, "<u4", order="F")
    parts = packed.T[..., None].view(np.uint8)  # blue, green, red, and what is always full
    for n in range(3):
        parts[..., 2 - n] = rgb[..., n].T
    return packed.astype(np.uint32, copy=False)


def packed_grey(level: float) -> int:
    """A grey from 0 (black) to 255 as a packed colour; raises Trouble when it is none."""
    if not holds(np.uint8, level):
        raise Trouble(f"{level:.15g} is no grey of a colour image", "give a whole number from 0 to 255")
    return 0xFF000000 | int(level) * 0x010101


def colour_channels(packed: np.ndarray) -> np.ndarray:
    """Packed colours as uint8 [..., 3] in the order red, green, blue."""
    return np.stack([((packed >> np.uint32(shift)) & np.uint32(255)).astype(np.uint8) for shift in (16, 8, 0)], -1)


def brightness(packed: np.ndarray) -> np.ndarray:
    """The brightness of packed colours, uint8: 0.299 red + 0.587 green + 0.114 blue (ITU-R BT.601)."""
    return np.rint(colour_channels(packed) @ np.array([0.299, 0.587, 0.114], np.float32)).astype(np.uint8)


def outer_values(values: np.ndarray) -> tuple[float, float]:
    """The 1st and the 99.5th percentile of values in a row."""
    ranks = [round(share * (values.size - 1)) for share in (0.01, 0.995)]
    low, high = (float(v) for v in np.partition(values, ranks)[ranks])
    return low, high
