"""Which painters of files there are."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass
from pathlib import Path
from typing import IO

from ..core.errors import Trouble
from ..core.registry import Registry
from ..core.safe_write import written_whole
from .primitives import Page


@dataclass(frozen=True)
class FilePainter:
    """A painter of files.

    Parameters
    ----------
    name : str
        What a person calls such files.
    endings : tuple of str
        Of file names, in small letters, with their dots.
    write : callable
        `write(page, stream, ending)`: draw a page into an open binary stream.
    most : pixels
        That such a file can hold along one side; 0 for any number.
    """

    name: str
    endings: tuple[str, ...]
    write: Callable[[Page, IO[bytes], str], None]
    most: int = 0


PAINTERS: Registry[FilePainter] = Registry("painter", f"{__package__}.painters")


def register(painter: FilePainter) -> FilePainter:
    """Make a painter known."""
    return PAINTERS.add(painter.name, painter)


def painter_for(path: Path) -> FilePainter:
    """The painter of a file name; raises Trouble when its ending is none that can be written."""
    ending = path.suffix.lower()
    for painter in PAINTERS:
        if ending in painter.endings:
            return painter
    *others, last = [one for painter in PAINTERS for one in painter.endings[:1]]
    raise Trouble(f"Pictures are written as {', '.join(others)} or {last}", "end the name in one of these", path)


_takers: ContextVar[list[Page] | None] = ContextVar("takers", default=None)


@contextmanager
def pages_taken() -> Iterator[list[Page]]:
    """Pages that are written within the block, in this thread, go into a list in place of files: so a figure is made of
    what operations draw."""
    taken: list[Page] = []
    token = _takers.set(taken)
    try:
        yield taken
    finally:
        _takers.reset(token)


def write_page(page: Page, path: Path) -> None:
    """Write a page as the file that its name tells; whole, or not at all.

    Raises
    ------
    Trouble
        When no painter knows the ending, it cannot hold so many pixels, or the file cannot be written.
    """
    taken = _takers.get()
    if taken is not None:
        taken.append(page)
        return
    painter, longest = painter_for(path), max(page.ground.shape)
    if painter.most and longest > painter.most:
        raise Trouble(f"A {painter.name} file holds at most {painter.most} pixels along a side", "ask for fewer", path)
    with written_whole(path) as stream:
        painter.write(page, stream, path.suffix.lower())
