"""What of an image belongs to its being shown: the range of its values at first, which side of zero counts, which of
its coarser versions is shown, a value in words."""

from __future__ import annotations

import weakref

import numpy as np

from ..core.image import Image
from ..core.quantity import pretty_unit, readable
from ..core.space import Space
from ..core.values import colour_channels, outer_values

BOTH_SIDES = "Both sides of zero"
"""A fact of images that are to be shown about zero whatever their values: maps of a correlation, of a difference."""
_ranges: weakref.WeakKeyDictionary[Image, tuple[float, float]] = weakref.WeakKeyDictionary()


def display_range(image: Image) -> tuple[float, float]:
    """Lower and upper value to show at first: 1st and 99.5th percentile of a sample of the voxels. Volumes of a series
    have that of the series, once it is known."""
    series = None if image.series is None else image.series()
    for known in (series, image):
        if known is not None and known in _ranges:
            return _ranges[known]
    source = image.frame(tuple(a.size // 2 for a in image.axes)) if image.axes else image
    found = _ranges[image] = own_range(source)
    return found


def hand_on_range(before: Image, after: Image) -> None:
    """The same values in another object: what is known of the one holds for the other."""
    if before in _ranges:
        _ranges[after] = _ranges[before]


def own_range(image: Image) -> tuple[float, float]:
    """As `display_range`, of this volume alone."""
    if image.colour:
        return 0.0, 255.0
    sample = image.sample()
    if sample.size == 0:
        return 0.0, 1.0
    low, high = outer_values(sample)
    if high <= low and (others := sample[sample != low]).size:  # nearly all have one value: the others count
        ends = outer_values(others)
        low, high = min(low, ends[0]), max(high, ends[1])
    return (low, high) if high > low else (low, low + (abs(low) or 1.0))


def two_sided(image: Image) -> bool:
    """Whether values lie on both sides of zero and zero means something: a map of differences or of a statistic, not CT
    numbers."""
    if image.colour or image.unit == "HU":
        return False
    if image.facts.get(BOTH_SIDES):
        return True
    low, high = display_range(image)
    return low < 0 < high and min(-low, high) > 0.1 * max(-low, high)


def low_is_bright(image: Image) -> bool:
    """Whether low values are to be shown bright, as the header of a radiograph may ask."""
    return image.facts.get("PhotometricInterpretation") == "MONOCHROME1"


def value_text(image: Image, world) -> str:
    """The value at a world position as a person reads it: with its unit, or red, green and blue."""
    value = image.value_at(world)
    if value is None:
        return "–"
    if image.colour:
        red, green, blue = colour_channels(np.array([int(value)], np.uint32))[0]
        return f"{red} {green} {blue}"
    unit, factor = readable(image.unit)
    return "none" if value != value else f"{factor * value:.5g} {unit}".replace("-", "−").strip()


def for_showing(image: Image, most: int, in_parts: int | None = None) -> Image:
    """An image, or the finest of its coarser levels that takes at most `most` bytes a volume; `in_parts` bytes of a
    picture whose finer parts can be read when they are looked at."""
    most = in_parts if in_parts is not None and image.part is not None and image.levels else most
    for one in (image, *image.levels):
        if int(np.prod(one.space.shape)) * (4 if one.colour else 2) <= most:
            break
    else:
        one = image.levels[-1] if image.levels else image
    one.finer = None if one is image else image
    return one


def shown_unit(space: Space) -> tuple[str, int]:
    """The unit in which positions on a grid are shown and typed, and how many of it a unit of the world has."""
    fine = space.unit == "mm" and min(space.spacing) < 0.02
    return ("µm", 1000) if fine else (pretty_unit(space.unit), 1)
