"""Values of a damaged file: whatever a decoder makes of them, a person gets a sentence."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from ..core.errors import Cancelled, Trouble, let_through
from ..core.image import Fetch, Image, Part
from ..core.values import Stored
from ..core.waiting import reading


def guard(image: Image, path: Path) -> Image:
    """The image itself; from now on anything that goes wrong while its values are read is a Trouble naming the file."""
    for one in (image, *image.levels):
        one._fetch = _guarded(one._fetch, one.space.shape, path)
        if one.part is not None:
            one.part = _guarded_part(one.part, path)
    return image


def _guarded_part(part: Part, path: Path) -> Part:
    def safely(index, box):
        try:
            with reading(path):
                return part(index, box)
        except (Trouble, Cancelled):
            raise
        except MemoryError as error:
            raise no_memory(path) from error
        except BaseException as error:
            let_through(error)
            raise Trouble(
                "A part of this picture cannot be read; the file is damaged", "copy it again", path
            ) from error

    return safely


def _guarded(fetch: Fetch, shape: tuple[int, int, int], path: Path) -> Fetch:
    def safely(index, progress):
        try:
            with reading(path):
                got = fetch(index, progress)
            if np.shape(got.values if isinstance(got, Stored) else got)[:3] != tuple(shape):
                raise ValueError("shape")
            return got
        except (Trouble, Cancelled):
            raise
        except MemoryError as error:
            raise no_memory(path) from error
        except BaseException as error:  # decoders meet damaged values with many kinds of error
            let_through(error)
            raise Trouble(
                "The values of this file cannot be read; it is damaged or cut short", "copy it again", path
            ) from error

    return safely


def no_memory(path: Path) -> Trouble:
    """The sentence for a file that takes more memory than there is."""
    return Trouble("There is not enough memory for this file", "close other programs, or take a part of it", path)
