"""Bring the values of images onto a common scale."""

from __future__ import annotations

import numpy as np

from ..core.errors import Trouble
from ..core.image import Image
from ..core.operation import operation


@operation("prepare", "Scale intensities", name="scale", keywords="normalise normalize rescale values")
def scale(image: Image, low: float = 0.0, high: float = 1.0) -> Image:
    """Map the values linearly so that the 1st and 99th percentile become two given numbers.

    Parameters
    ----------
    low : number
        What the 1st percentile becomes.
    high : number
        What the 99th percentile becomes.
    """
    from_low, from_high = (float(v) for v in np.percentile(image.kji, (1, 99)))
    if from_high <= from_low:
        raise Trouble(f"“{image.name}” has one value nearly everywhere", "choose an image that shows something")
    factor = (high - low) / (from_high - from_low)
    values = (image.kji.astype(np.float32) - np.float32(from_low)) * np.float32(factor) + np.float32(low)
    return image.like(values.T, name=f"{image.name}, scaled", unit="")
