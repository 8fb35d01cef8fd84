"""Take an image of an older study in again, as its files are read today."""

from __future__ import annotations

import numpy as np

from ..core.errors import Trouble
from ..core.image import Image
from ..core.labels import LabelMap
from ..core.operation import operation
from ..core.progress import Progress, silent
from ..formats.opening import reopened_image

OURS = ("before", "layout", "levels")
"""What a study notes of how it reads a file; all else is how a person wanted it read."""


def read_today(image: Image, progress: Progress | None = None) -> Image:
    """The image that the files of an image hold, as they are read today.

    Raises
    ------
    Trouble
        When the image came from no file, or its files have gone.
    """
    origin = image.origin
    if not origin.files or not origin.format:
        raise Trouble(f"“{image.name}” was made here, of no file", "take the image in again that it was made of")
    gone = next((path for path in origin.files if not path.exists()), None)
    if gone is not None:
        raise Trouble(f"A file of “{image.name}” is no longer there", "bring it back to where it was", gone)
    reading = {name: value for name, value in origin.reading.items() if name not in OURS}
    return reopened_image(origin.format, list(origin.files), reading, progress)


@operation(
    "gather",
    "Take in again",
    name="take-in-again",
    keywords="reread reload older study wrong scale times palette orientation",
    takes="series colour",
    group="This image",
)
def take_in_again(image: Image, labels: LabelMap, progress: Progress = silent()) -> Image:
    """Read the files of an image once more, as they are read today, and keep what they hold beside it, with the labels
    in hand where its grid has as many voxels.

    Older versions read some files wrongly; a check says so. The older image stays as it is.

    Raises
    ------
    Trouble
        When the image came from no file, or its files have gone.
    """
    made = read_today(image, progress)
    made.name, made.subject = image.name, image.subject
    made.modality = made.modality or image.modality
    if made.space.shape == image.space.shape and labels.counts[1:].any():
        made.labels = LabelMap(made.space, np.asfortranarray(labels.data), labels.table, labels.name, image.subject)
    return made
