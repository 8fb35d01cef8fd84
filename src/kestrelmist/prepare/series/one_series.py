"""What steps along time ask of a series, and where there is signal in one of its volumes."""

from __future__ import annotations

import numpy as np

from ...core.axis import Axis
from ...core.errors import Trouble
from ...core.image import Image

SHARE, BRIGHT = 0.25, 98
"""The head is brighter than this share of the percentile of what is above 0."""


def time_of(image: Image) -> Axis:
    """The one axis of a series of volumes; raises Trouble when the image has none, or several, or is of colours."""
    if len(image.axes) != 1 or image.colour:
        raise Trouble(f"“{image.name}” is not a series of volumes in time", "choose one")
    return image.axes[0]


def bright_part(values: np.ndarray) -> np.ndarray:
    """Where the head is: brighter than a quarter of its bright part; everywhere where a value is when that is
    nowhere."""
    there = np.isfinite(values)
    above = values[there & (values > 0)]
    inside = there & (values > (SHARE * np.percentile(above, BRIGHT) if above.size else np.inf))
    return inside if inside.any() else there
