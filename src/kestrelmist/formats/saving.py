"""Write things in the format that a file's name asks for."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from ..core.errors import Trouble
from ..core.image import Image
from ..core.kind import kind_of_value
from ..core.memory import require_room
from ..core.progress import Progress, silent
from .format import writer_for

LAZY = (".tif", ".tiff", ".zarr")
"""Endings of formats that are written piece by piece, however large the image."""


def save_image(path: str | Path, image: Image, progress: Progress | None = None) -> None:
    """Write an image, values exactly as they are, in the format of the name's ending.

    Raises
    ------
    Trouble
        When the ending is not known, the format cannot say what the image holds, or the place cannot be written.
    """
    path = Path(path)
    known = writer_for(path)
    if image.levels and path.suffix.lower() not in LAZY:
        i, j, k = image.space.shape
        require_room(4 * image.count * i * j * k, f"“{image.name}”", path)
    assert known.write is not None
    known.write(path, image, progress or silent())


def save_thing(path: str | Path, thing: Any, progress: Progress | None = None) -> None:
    """Write an image, label map, table or transform in the format of the name's ending.

    Raises
    ------
    Trouble
        When things of its kind cannot be written under this name, or the place cannot be written.
    """
    if isinstance(thing, Image):
        save_image(path, thing, progress)
        return
    kind = kind_of_value(thing)
    if kind is None:
        raise Trouble("Nobody knows how to write this", "choose an image, labels, a table or a transform", path)
    known = writer_for(Path(path), kind.name)
    assert known.write is not None
    known.write(Path(path), thing, progress or silent())
