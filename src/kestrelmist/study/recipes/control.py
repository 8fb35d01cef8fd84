"""What a run is told from outside while it goes on: to wait, and when it may touch what a hand is drawing on."""

from __future__ import annotations

import threading
from collections.abc import Callable, Collection
from typing import TypeVar

T = TypeVar("T")


class Control:
    """Has a run wait and go on; may be used from any thread."""

    def __init__(self) -> None:
        self._go = threading.Event()
        self._go.set()

    @property
    def paused(self) -> bool:
        return not self._go.is_set()

    def pause(self) -> None:
        self._go.clear()

    def go_on(self) -> None:
        self._go.set()


class Calm:
    """How a run gets at what a hand may be drawing on; here nobody draws."""

    def read(self, images: Collection[int], read: Callable[[], T]) -> T:
        """Read something that is of images while there is no gesture on them."""
        return read()

    def change(self, images: Collection[int], change: Callable[[], T]) -> T:
        """Change something that is of images while there is no gesture on them."""
        return change()
