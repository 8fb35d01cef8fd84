"""Pieces of large pictures read beside the window, those in view first."""

from __future__ import annotations

import threading

from PySide6.QtCore import QObject, QTimer, Signal

from ...core.errors import Trouble
from ...core.image import Image
from ...scene.tiles import Tiles, tiles_of
from ...scene.view import View
from .session import Session

READERS = 2
"""Threads that read."""


class TileReader(QObject):
    """Asked by whoever draws; says when there is more to draw."""

    arrived = Signal()
    _read = Signal()
    _failed = Signal(str)

    def __init__(self, session: Session):
        super().__init__(session)
        self.session = session
        self._work: dict[int, Tiles] = {}
        self._busy = 0
        self._there = threading.Condition()
        self._threads: list[threading.Thread] = []
        self._soon = QTimer(self, singleShot=True, interval=25)
        self._soon.timeout.connect(self.arrived)
        self._read.connect(self._later)
        self._failed.connect(session.trouble)

    @property
    def idle(self) -> bool:
        """Whether nothing is being read."""
        with self._there:
            return not self._work and not self._busy and not self._soon.isActive()

    def want(self, images: list[Image], view: View) -> None:
        """Read what is missing of some images for a view."""
        for image in images:
            tiles = tiles_of(image)
            if tiles is not None and tiles.want(view):
                self._start(tiles)

    def want_value(self, image: Image, world) -> None:
        """Read the value of an image at full resolution."""
        tiles = tiles_of(image)
        if tiles is not None and tiles.want_value(world):
            self._start(tiles)

    def _start(self, tiles: Tiles) -> None:
        with self._there:
            self._work[id(tiles)] = tiles
            self._there.notify_all()
        while len(self._threads) < READERS:
            thread = threading.Thread(target=self._run, name="tiles", daemon=True)
            self._threads.append(thread)
            thread.start()

    def _run(self) -> None:
        while True:
            with self._there:
                while not self._work:
                    self._there.wait()
                key, tiles = next(iter(self._work.items()))
                self._busy += 1
            more = True
            try:
                more = tiles.read_next() and not self.session.closed
                if more:
                    self._read.emit()
            except Trouble as trouble:
                self._failed.emit(str(trouble))
            except RuntimeError:  # the window has gone
                return
            finally:
                with self._there:
                    self._busy -= 1
                    if not more:
                        self._work.pop(key, None)

    def _later(self) -> None:
        if not self._soon.isActive():
            self._soon.start()
