"""Voxels that a step leaves without a value."""

from __future__ import annotations

import numpy as np

from ...core.caveat import VALUES_LOST, Caveat
from ...core.errors import Trouble
from ...core.image import Image


def caveats_of(image: Image, found: np.ndarray, before: np.ndarray, why: str) -> list[Caveat]:
    """The doubts of an image and, when voxels lost their value, that many did.

    Parameters
    ----------
    found : array
        Values afterwards; those that are not finite are missing.
    before : bool array of that shape
        Where there were values.
    why : text
        What has none: "a division by zero or a logarithm of what is not above 0".

    Raises
    ------
    Trouble
        When no voxel of a volume has a value; of a series only the first volume was looked at.
    """
    there = np.isfinite(found)
    if not there.any() and not image.axes:
        raise Trouble(f"No voxel of “{image.name}” would have a value: {why} has none", "check what is asked for")
    lost = int(np.count_nonzero(before & ~there))
    if not lost:
        return image.caveats
    share = 100 * lost / found.size
    where = " in the first volume" if image.axes else ""
    sentence = f"{lost} voxels ({share:.2g} %){where} have no value: {why} has none"
    return [*image.caveats, Caveat(VALUES_LOST, sentence)]
