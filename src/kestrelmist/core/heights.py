"""Height maps: pictures whose values are lengths."""

from __future__ import annotations

import numpy as np

from .errors import Trouble
from .image import Image
from .quantity import nanometres, readable


def in_small_units(values: np.ndarray, unit: str) -> tuple[np.ndarray, str]:
    """Heights as they are worked with: what a file has in metres in nanometres, whose numbers can be read."""
    small, factor = readable(unit)
    if factor == 1:
        return values, unit
    kind = values.dtype if values.dtype.kind == "f" else np.float64
    return (values * factor).astype(kind, copy=False), small


def is_height_map(image: Image) -> bool:
    """Whether an image is a single picture whose values are lengths."""
    return not image.colour and image.space.shape[2] == 1 and nanometres(image.unit) is not None


def require_picture(image: Image) -> None:
    """Raises Trouble unless an image is one flat picture of more than one line."""
    columns, rows, slices = image.space.shape
    if slices != 1:
        raise Trouble(f"“{image.name}” has {slices} slices, and a height map has one", "choose a height map")
    if min(columns, rows) < 2:
        raise Trouble(f"“{image.name}” is a single line", "choose a height map of several lines")


def in_nanometres(image: Image) -> float:
    """Nanometres in one of the unit of an image's values; raises Trouble when that is no length."""
    found = nanometres(image.unit)
    if found is None:
        raise Trouble(
            f"The values of “{image.name}” are no heights: their unit is “{image.unit or 'none'}”",
            "say what it is with “Calculate”, the formula a and the unit nm, µm or mm",
        )
    return found
