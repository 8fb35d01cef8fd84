"""How an image is shown at first: by itself, and over another one. The same in a pane and in a picture."""

from __future__ import annotations

import numpy as np

from ..core.heights import is_height_map
from ..core.image import Image
from .colours import first_map, first_range
from .layer import ImageLook
from .showing import display_range, two_sided
from .side_light import steepness

ABOVE, BELOW = "Ember", "Deep water"
"""Colours of what is laid over another image: above zero, and below it."""
HEIGHTS, LIGHT = "Lagoon", 0.6
"""Colours of height maps, and how strong the light from the side is at first."""
SEE_THROUGH = 0.6
"""Opacity at first of what has no middle: most likely it is another picture of the same body."""
CLEAR = 0.3
"""Share of the range, from zero, that is left clear at first, so that what lies below is seen."""
SAMPLE = 10_000
ALIKE = 0.3
"""Share of a range by which another one may differ and be shown as if it were the same."""


def first_look(image: Image) -> ImageLook:
    """The look of an image by itself; of a height map, with a light from the side."""
    if is_height_map(image):
        return ImageLook(*display_range(image), HEIGHTS, light=LIGHT, steep=steepness(image))
    return ImageLook() if image.colour else ImageLook(*first_range(image), first_map(image))


def over_look(image: Image) -> ImageLook:
    """The look of an image that lies over another one: what is near to zero, or low, is left clear."""
    if image.colour:
        return ImageLook()
    low, high = first_range(image)
    sample = image.sample(SAMPLE)
    if two_sided(image):
        there = np.abs(sample[sample != 0])  # around a map of a statistic there is often nothing but zero
        high = max(high, float(np.percentile(there, 98.0))) if there.size else high
        return ImageLook(CLEAR * high, high, ABOVE, below_map=BELOW)
    if not sample.size or sample.min() == sample.max():  # of one value nothing may be hidden
        return ImageLook(low, high, ABOVE)
    least = low + CLEAR * (high - low)
    return ImageLook(least, high, ABOVE, hide_below=least)


def over_opacity(look: ImageLook) -> float:
    """The opacity of an image that lies over another one."""
    return 1.0 if look.below_map else SEE_THROUGH


def scale_between(before: Image, after: Image) -> tuple[float, float]:
    """Factor and shift that bring the range of what an image shows onto that of what was made from it; 1 and 0 when
    both are nearly the same, so that a change of brightness is seen as one."""
    samples = before.sample(SAMPLE), after.sample(SAMPLE)
    ends = [np.percentile(values, (1, 99)).tolist() if values.size else (0.0, 0.0) for values in samples]
    (low, high), (low_after, high_after) = ends
    width, width_after = high - low, high_after - low_after
    moved = abs(low_after - low) + abs(high_after - high)
    if not width > 0 or not width_after > 0 or moved <= ALIKE * width:
        return 1.0, 0.0
    factor = width_after / width
    return factor, low_after - factor * low
