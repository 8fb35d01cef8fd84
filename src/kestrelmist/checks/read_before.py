"""A check of images that an older version took in, whose files are read in another way today."""

from __future__ import annotations

import numpy as np

from ..core.caveat import FACTS_BY_HAND, SCALE_BY_HAND, has_caveat
from ..core.image import Image
from ..gather.take_in_again import read_today
from .notice import Mend, Notice, Subject, check

AGAIN = Mend("Take in again", "take-in-again")
CLOSE = 1e-3
"""Share by which lengths and times may differ and be the same."""
LARGEST = 1 << 28
"""Voxels of a volume whose values are compared."""
_KNOWN: dict[tuple, list[str]] = {}
"""What was found of each image, by its content and its files: they are not read again and again."""


def is_older(image: Image) -> bool:
    """Whether an older version took an image in from files of others."""
    files = image.origin.files
    made_here = bool(files) and files[0].name in ("values.nii", "values.ome.tif")
    return bool(image.origin.reading.get("before")) and bool(files) and not made_here


@check("gather", "prepare", "outline", "measure")
def read_before(subject: Subject) -> list[Notice]:
    """Images whose scale, times, size or values are others when their files are read today."""
    image = subject.series
    if not is_older(image):
        return []
    key = (subject.record_id, *map(str, image.origin.files[:1]), image.space, image.axes)
    if key not in _KNOWN:
        record = next((r for r in subject.records if r.id == subject.record_id), None)
        _KNOWN[key] = differences(image, read_today(image, subject.progress), subject.image, record and record.hash)
    found = _KNOWN[key]
    if not found:
        return []
    said = f"An older version took this image in, and read its file in another way: {'; '.join(found)}."
    return [Notice("wrong", f"{said} What was measured on it may be wrong.", AGAIN, "read_before")]


def differences(image: Image, today: Image, volume: Image, content: str | None = None) -> list[str]:
    """What is other about an image as it was taken in than about its files as they are read today, in words.

    Parameters
    ----------
    image, today : Image
        As it was taken in, and as its files are read today.
    volume : Image
        The volume of `image` that is in memory, if any.
    content : str, optional
        The hash of the values that were taken in.
    """
    if today.shape != image.shape or today.colour != image.colour:
        sizes = [" × ".join(map(str, one.shape)) for one in (image, today)]
        return [f"it is {sizes[1]}, not {sizes[0]}" if sizes[0] != sizes[1] else "its numbers stand for colours"]
    found = []
    one, other = np.array(image.space.spacing), np.array(today.space.spacing)
    if not has_caveat(image.caveats, SCALE_BY_HAND):
        if image.space.unit != today.space.unit:
            found.append("its scale is not known" if today.space.unit == "px" else "its scale is known")
        elif not np.allclose(one, other, rtol=CLOSE) and _one_factor(other / one):
            found.append(f"its voxels are {_lengths(other)}, not {_lengths(one)} {today.space.unit}")
    if not has_caveat(image.caveats, FACTS_BY_HAND):
        for was, is_ in zip(image.axes, today.axes):
            same = was.unit == is_.unit and len(was.values) == len(is_.values)
            if not same or not np.allclose(was.values, is_.values, rtol=CLOSE, atol=1e-9):
                found.append(f"its places along “{is_.name}” are others")
    if content and image.origin.format == "DICOM" and not image.axes and volume.in_memory:
        if volume.data.size <= LARGEST and not any(
            Image(volume.data, space, colour=image.colour).content_hash() == content
            for space in (today.space, image.space)
        ):
            found.append("its values are others")
    return found


def _one_factor(ratios: np.ndarray) -> bool:
    """Whether axes are longer by one factor, or as they were; a person's alignment gives each its own."""
    changed = ratios[np.abs(ratios - 1) > CLOSE]
    return bool(np.ptp(changed) <= CLOSE * changed.mean())


def _lengths(spacing: np.ndarray) -> str:
    return " × ".join(f"{v:.4g}" for v in spacing)
