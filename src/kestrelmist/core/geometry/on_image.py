"""Whether marks lie on an image: its positions mean theirs."""

from __future__ import annotations

from ..errors import Trouble
from ..image import Image
from .marks import Marks


def require_on(marks: Marks, image: Image) -> None:
    """Raises Trouble when marks count in another unit than an image, or lie in another world."""
    if marks.unit != image.space.unit:
        raise Trouble(
            f"“{marks.name}” counts in {marks.unit} and “{image.name}” in {image.space.unit}",
            "take the marks onto the image as it is now (take-marks)",
        )
    here, there = image.space.world, marks.world
    if there.id and here.id and not there.is_one_with(here):
        raise Trouble(
            f"“{marks.name}” lies in another space ({there}) than “{image.name}” ({here})",
            "bring the marks to the image (bring-marks)",
        )
