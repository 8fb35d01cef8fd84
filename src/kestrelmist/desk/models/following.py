"""What workers have changed, told to the window in its own thread and in its own time."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Sequence
from functools import partial

from PySide6.QtCore import QObject, QThread, QTimer, Signal

SHARE = 9
"""Times as long as the window took to follow it is left to itself before it is told again."""
LONGEST = 2.0
"""Seconds that are waited at most."""


class Following(QObject):
    """Gathers ids of things that have changed. What the window itself has done is told at once; of a worker that takes
    in hundreds a second as many at a time as leave the window most of its time, one listener a turn of the event loop.

    Parameters
    ----------
    listeners : callables
        Called with ids, in the window's thread.
    """

    _begun = Signal()

    def __init__(self, listeners: Sequence[Callable[[tuple[int, ...]], object]], parent=None):
        super().__init__(parent)
        self._listeners = tuple(listeners)
        self._waiting: dict[int, None] = {}
        self._telling: list[Callable[[], object]] = []
        self._lock = threading.Lock()
        self._not_before, self._took = 0.0, 0.0
        self._later = QTimer(self, singleShot=True)
        self._later.timeout.connect(self._go_on)
        self._begun.connect(self._begin)

    @property
    def settled(self) -> bool:
        """Whether everything has been told."""
        return not self._waiting and not self._telling

    def moved(self, items: tuple[int, ...]) -> None:
        """Things have changed; called from the thread that did it."""
        if QThread.currentThread() is self.thread():
            self.flush()
            for listener in self._listeners:
                listener(items)
            return
        with self._lock:
            first = not self._waiting
            self._waiting.update(dict.fromkeys(items))
        if first:
            self._begun.emit()  # comes in the window's thread

    def _begin(self) -> None:
        if not self._telling:
            self._later.start(max(0, int(1000 * (self._not_before - time.monotonic())) + 1))

    def _take(self) -> None:
        with self._lock:
            items = tuple(self._waiting)
            self._waiting = {}
        if items:
            self._telling += [partial(listener, items) for listener in self._listeners]

    def _go_on(self) -> None:
        if not self._telling:
            self._take()
        began = time.monotonic()
        try:
            if self._telling:
                self._telling.pop(0)()
        finally:  # a fault of one listener keeps nothing from the others
            self._took += time.monotonic() - began
            if self._telling:
                self._later.start(0)
            else:
                self._not_before, self._took = time.monotonic() + min(LONGEST, SHARE * self._took), 0.0
                if self._waiting:
                    self._begin()

    def flush(self) -> None:
        """Tell all that is waiting, now."""
        self._later.stop()
        self._take()
        while self._telling:
            self._telling.pop(0)()
