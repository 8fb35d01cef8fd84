"""When a run that goes on in a thread may touch what the hand draws on: while there is no gesture on it."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Collection
from typing import Any

from PySide6.QtCore import QObject, QTimer, Signal

from ...core.progress import silent
from ...study.recipes.control import Calm, T
from .session import Session

LOOK = 0.05
"""Seconds between looks at whether a gesture has ended, and whether the run is still wanted."""
PATIENCE = 10.0
"""Seconds that a gesture is waited for. It is ended then, as it is before any other step: a contour that somebody left
open must not stop a run overnight."""


class _Turn:
    """Something that waits for its turn in the window's thread, and what came of it."""

    def __init__(self, images: Collection[int], do: Callable[[], Any]):
        self.images, self.do = images, do
        self.until = time.monotonic() + PATIENCE
        self.over = threading.Event()
        self.given_up = False
        self.result: Any = None
        self.error: BaseException | None = None

    def take(self) -> None:
        try:
            self.result = self.do()
        except BaseException as error:  # raised where it is waited for
            self.error = error
        self.over.set()


class BetweenGestures(QObject, Calm):
    """Reads in the thread of the run, again where a gesture came in between; changes in the window's thread, as
    everything does that a hand might be at. `progress` is of the run: once it is cancelled nothing is waited for."""

    _asked = Signal(object)

    def __init__(self, session: Session, parent: QObject):
        QObject.__init__(self, parent)
        self.session, self.progress = session, silent()
        self._asked.connect(self._turn)

    def read(self, images: Collection[int], read: Callable[[], T]) -> T:
        while True:
            before = self._counts(images)
            if self._drawn_on(images):
                self.change(images, lambda: None)
                continue
            found = read()
            if self._counts(images) == before:
                return found

    def change(self, images: Collection[int], change: Callable[[], T]) -> T:
        turn = _Turn(images, change)
        self._asked.emit(turn)
        while not turn.over.wait(LOOK):
            try:
                self.progress.at(self.progress.fraction)
            except BaseException:
                turn.given_up = True
                raise
        if turn.error is not None:
            raise turn.error
        return turn.result

    def _counts(self, images: Collection[int]) -> list[int]:
        return [self.session.gestures.get(image, 0) for image in images]

    def _drawn_on(self, images: Collection[int]) -> bool:
        return any(count % 2 for count in self._counts(images))

    def _turn(self, turn: _Turn) -> None:
        if turn.given_up or self.progress.cancelled:
            return
        if self._drawn_on(turn.images) and time.monotonic() < turn.until:
            QTimer.singleShot(int(1000 * LOOK), self, lambda: self._turn(turn))
            return
        if self._drawn_on(turn.images):
            self.session.end_gesture()
        turn.take()
