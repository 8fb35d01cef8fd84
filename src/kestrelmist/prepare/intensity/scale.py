"""Bring the values of images onto a common scale."""

from __future__ import annotations

import math

import numpy as np

from ...core.errors import Trouble
from ...core.image import Image
from ...core.operation import operation


@operation(
    "prepare",
    "Scale intensities",
    name="scale",
    keywords="normalise normalize rescale values rescale intensity normalisation stretch percentiles",
    group="Values",
    reach=math.inf,
    called={"low": "1st percentile", "high": "99th percentile"},
    methods="Values were scaled linearly, the 1st percentile to {low} and the 99th to {high}",
)
def scale(image: Image, low: float = 0.0, high: float = 1.0) -> Image:
    """Map the values linearly so that the 1st and 99th percentile become two given numbers. Voxels without a value
    (NaN) stay so, and infinite ones too; neither counts.

    Parameters
    ----------
    low : number
        What the 1st percentile becomes.
    high : number
        What the 99th percentile becomes.

    Raises
    ------
    Trouble
        When the image has one value nearly everywhere, or none.
    """
    values = image.kji
    there = values[np.isfinite(values)] if values.dtype.kind == "f" else values
    if there.size == 0:
        raise Trouble(f"“{image.name}” holds no values", "choose an image that shows something")
    from_low, from_high = (float(v) for v in np.percentile(there, (1, 99)))
    if from_high <= from_low:
        raise Trouble(f"“{image.name}” has one value nearly everywhere", "choose an image that shows something")
    factor = (high - low) / (from_high - from_low)
    # float64 on the way: a small range far from zero would lose all its steps in float32
    scaled = (values.astype(np.float64) - from_low) * factor + low
    return image.like(scaled.astype(np.float32).T, name=f"{image.name}, scaled", unit="")
