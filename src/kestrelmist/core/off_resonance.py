"""Maps of how far the field of a scanner is off resonance."""

from __future__ import annotations

from typing import Any

import numpy as np

from .errors import Trouble
from .image import Image

RADIANS, HERTZ = "rad/s", "Hz"


def is_field(image: Any) -> bool:
    """Whether an image, or what is known of it, is a map of a field by its unit."""
    return not image.axes and _plain(image) in (RADIANS, HERTZ.lower())


def hertz_of(field: Image) -> np.ndarray:
    """A field in Hz, float32 [k, j, i]. Raises Trouble when its unit is another one, or it has no values."""
    if _plain(field) not in (RADIANS, HERTZ.lower()):
        raise Trouble(
            f"“{field.name}” is in {field.unit or 'no unit'}, and a field in rad/s or Hz is wanted",
            "make it with “Field map”, which also takes a map whose unit is given",
        )
    values = field.kji.astype(np.float32)
    if not np.isfinite(values).any():
        raise Trouble(f"“{field.name}” has no values", "choose another")
    return values / np.float32(2 * np.pi) if _plain(field) == RADIANS else values


def _plain(image: Any) -> str:
    return str(image.unit.replace(" ", "").lower())
