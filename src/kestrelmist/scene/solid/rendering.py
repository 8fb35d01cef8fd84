"""Pictures of a solid scene without a window, by the process that draws: a broken driver takes that down alone."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ...core.errors import Trouble
from ...core.progress import Progress
from .eye import Camera, Eye, Frame
from .making import messages
from .process import SolidProcess
from .scene import Solid

PATIENCE = 900.0
"""Seconds that one picture may take."""


@dataclass
class Drawing:
    """A scene in the hands of the process."""

    process: SolidProcess
    triangles: dict[tuple, int] = field(default_factory=dict)
    drawn_by: str = ""
    frame: Frame | None = None

    def picture(
        self, camera: Camera, width: int, height: int, clear: bool, progress: Progress
    ) -> tuple[np.ndarray, Eye]:
        """The picture from a camera, uint8 (height, width, 4) premultiplied by opacity, and the eye that saw it. The
        first one looks at all that there is, others at the same."""
        self.process.send("view", 1, width, height, camera, self.frame, False, clear)
        waited = 0.0
        while True:
            progress.at(progress.fraction)
            if not self.process.pipe.poll(0.1):
                waited += 0.1
                if waited > PATIENCE:
                    raise Trouble("The picture takes too long", "ask for fewer pixels, or fewer labels")
                continue
            word, *rest = self.process.pipe.recv()
            if word == "made":
                self.triangles[tuple(rest[0])] = rest[1]
            elif word == "ready":
                self.drawn_by = rest[0]
            elif word == "picture":
                _, eye, data = rest
                self.frame = eye.frame
                return np.frombuffer(data, np.uint8).reshape(eye.height, eye.width, 4), eye


@contextmanager
def drawing(
    solid: Solid, find: Callable[[int | str], Any], progress: Progress, quality: str = "usual"
) -> Iterator[Drawing]:
    """A scene handed to a process of its own, which ends with the block.

    Raises Trouble when there is nothing to be seen, or the process ends before it has drawn.
    """
    process = SolidProcess()
    try:
        process.send("quality", quality)
        for one in messages(solid, find, progress):
            process.send(*one)
        yield Drawing(process)
    except (EOFError, OSError) as error:
        raise Trouble(
            "The picture could not be drawn on this machine", "try again, or see what `bench` says"
        ) from error
    finally:
        process.close()


def packed(pixels: np.ndarray) -> np.ndarray:
    """Packed colours (height, width) of premultiplied ones (height, width, 4): 0xAARRGGBB, not premultiplied."""
    wide = pixels.astype(np.uint32)
    alpha = wide[..., 3]
    if (alpha == 255).all():
        return 0xFF000000 | wide[..., 0] << 16 | wide[..., 1] << 8 | wide[..., 2]
    whole = np.maximum(alpha, 1)
    red, green, blue = (np.minimum((wide[..., n] * 255 + whole // 2) // whole, 255) for n in range(3))
    return (alpha << 24 | red << 16 | green << 8 | blue).astype(np.uint32)
