"""Frames one after another as MP4, GIF or APNG: written beside, and put in place when all are there."""

from __future__ import annotations

import logging
import os
import shutil
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import IO

import numpy as np

from ..core.errors import Trouble
from ..core.safe_write import write_trouble, written_whole, written_whole_path

ENDINGS = (".mp4", ".gif", ".png", ".apng")
FRAMES = {".gif": 1500, ".png": 1500, ".apng": 1500}
"""Frames that pictures which move hold at most: they are put together in memory."""
ROOM = 1 << 20
"""Bytes below which a disk is full."""
Add = Callable[[np.ndarray], None]


def require_film(path: Path, size: tuple[int, int], frames: int) -> None:
    """Raises Trouble when no film is written under a name, or not of such a size or so many frames."""
    ending = path.suffix.lower()
    if ending not in ENDINGS:
        raise Trouble("Films are written as .mp4, .gif or .apng", "end the name in one of these", path)
    if not path.parent.is_dir():
        raise Trouble("The folder to write into does not exist", "make it or choose another", path)
    if ending == ".mp4" and max(size) > 4096:
        raise Trouble(f"A film of {size[0]} × {size[1]} pixels is too large", "ask for 4096 along a side at most", path)
    if frames > FRAMES.get(ending, 100_000):
        raise Trouble(f"A {ending} file holds at most {FRAMES[ending]} frames", "name an .mp4, or ask for fewer", path)


@contextmanager
def film_file(path: Path, size: tuple[int, int], rate: float, loop: bool, title: str, words: str) -> Iterator[Add]:
    """A film that frames are added to, uint8 (height, width, 3) each; it is there when the block ends well.

    Raises
    ------
    Trouble
        When it cannot be written: the disk is full, or the place may not be written to.
    """
    if path.suffix.lower() == ".mp4":
        with _mp4(path, size, rate, title, words) as add:
            yield add
    else:
        with _pictures(path, rate, loop, words) as add:
            yield add


@contextmanager
def _mp4(path: Path, size: tuple[int, int], rate: float, title: str, words: str) -> Iterator[Add]:
    import imageio_ffmpeg

    logging.getLogger("imageio_ffmpeg").setLevel(logging.CRITICAL)  # what matters of it is said in our own words
    wide, tall = (n + n % 2 for n in size)  # the codec wants even numbers
    with written_whole_path(path) as beside:
        told = ["-metadata", f"title={title}", "-metadata", f"comment={words}"]
        film = imageio_ffmpeg.write_frames(
            str(beside),
            (wide, tall),
            fps=rate,
            codec="libx264",
            quality=None,
            macro_block_size=2,
            ffmpeg_log_level="quiet",
            output_params=["-crf", "18", "-preset", "superfast", "-movflags", "+faststart", *told],
        )
        film.send(None)

        def add(frame: np.ndarray) -> None:
            if frame.shape[:2] != (tall, wide):
                frame = np.pad(frame, ((0, tall - frame.shape[0]), (0, wide - frame.shape[1]), (0, 0)), "edge")
            film.send(np.ascontiguousarray(frame))

        try:
            yield add
            film.close()
        except OSError as error:  # the one that packs frames has ended
            raise _told(error, path) from error
        finally:
            with suppress(OSError):
                film.close()
        if not os.path.exists(beside) or not os.path.getsize(beside):
            raise Trouble("The film could not be written", "see whether the disk is full", path)


def _told(error: OSError, path: Path) -> Trouble:
    """What stopped the one that packs frames: most likely a disk that is full."""
    full = False
    with suppress(OSError):
        full = shutil.disk_usage(path.parent).free < ROOM
    if full or "No space left" in str(error):
        return Trouble("The disk is full", "make room on it, or write elsewhere", path)
    return write_trouble(error, path)


@contextmanager
def _pictures(path: Path, rate: float, loop: bool, words: str) -> Iterator[Add]:
    from PIL import Image as Picture

    frames: list = []
    gif = path.suffix.lower() == ".gif"
    shared: list = []

    def add(frame: np.ndarray) -> None:
        picture = Picture.fromarray(frame)
        if gif:  # one palette, so that what stands still does not flicker
            if not shared:
                shared.append(picture.quantize(255, Picture.Quantize.MEDIANCUT))
            picture = picture.quantize(palette=shared[0], dither=Picture.Dither.NONE)
        frames.append(picture)

    yield add
    if not frames:
        raise Trouble("The film has no frames", "ask for more seconds", path)
    each = max(20, round(1000 / rate)) if gif else round(1000 / rate)
    with written_whole(path) as stream:
        _save(frames, stream, gif, each, loop, words)


def _save(frames: list, stream: IO[bytes], gif: bool, each: int, loop: bool, words: str) -> None:
    from PIL.PngImagePlugin import PngInfo

    if gif:
        more = {"loop": 0} if loop else {}
        frames[0].save(stream, "GIF", save_all=True, append_images=frames[1:], duration=each, comment=words, **more)
        return
    info = PngInfo()
    info.add_itxt("Description", words)
    again = 0 if loop else 1
    frames[0].save(stream, "PNG", save_all=True, append_images=frames[1:], duration=each, loop=again, pnginfo=info)
