"""Progress of long work, with cancel and time left."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Iterator
from typing import Any

import numpy as np

from .errors import Cancelled


class Progress:
    """Tells a listener how far a computation is and tells the computation when to stop.

    `stop` is a one-element uint8 array, so that a compiled kernel that has released the interpreter
    lock can look at it without a call back into Python. `watcher` is shown what work has found so far; work that shows
    something may also be told that this is enough.
    """

    def __init__(
        self,
        listener: Callable[[float, str], None] | None = None,
        title: str = "",
        watcher: Callable[[Any], None] | None = None,
    ):
        self.listener, self.title, self.watcher = listener, title, watcher
        self.stop, self.enough = np.zeros(1, np.uint8), np.zeros(1, np.uint8)
        self.fraction, self.started = 0.0, time.monotonic()

    def cancel(self) -> None:
        """Ask the work to end; may be called from any thread."""
        self.stop[0] = 1

    @property
    def cancelled(self) -> bool:
        """Whether the work was asked to end."""
        return bool(self.stop[0])

    def at(self, fraction: float, what: str = "") -> None:
        """Report a fraction between 0 and 1; raises Cancelled when the person asked for it."""
        if self.cancelled:
            raise Cancelled
        self.fraction = min(max(float(fraction), 0.0), 1.0)
        if self.listener:
            self.listener(self.fraction, what)

    def stop_here(self) -> None:
        """Ask the work to end with what it has found by now; may be called from any thread."""
        self.enough[0] = 1

    @property
    def has_enough(self) -> bool:
        """Whether the work was asked to end with what it has found."""
        return bool(self.enough[0])

    @property
    def watched(self) -> bool:
        """Whether somebody looks at what is found so far."""
        return self.watcher is not None

    def show(self, state: Any) -> None:
        """Show what was found so far."""
        if self.watcher is not None:
            self.watcher(state)

    def unseen(self) -> Progress:
        """The same, of which nothing is shown: what is found on the way is not what is looked for."""
        inner = self.part(0.0, 1.0)
        inner.watcher = None
        return inner

    def seconds_left(self) -> float | None:
        """Seconds still needed if the work goes on at its pace so far, None before 2 % are done."""
        if self.fraction < 0.02:
            return None
        spent = time.monotonic() - self.started
        return spent / self.fraction - spent

    def over(self, items: Iterable, total: int | None = None, what: str = "") -> Iterator:
        """Yield the items, reporting and honouring cancel between them."""
        if total is None:
            items = counted = list(items)
            total = len(counted)
        for n, item in enumerate(items):
            self.at(n / max(total, 1), what)
            yield item
        self.at(1.0, what)

    def part(self, start: float, end: float) -> Progress:
        """A Progress for a stretch of this one; shares its cancel."""
        inner = Progress(lambda f, what: self.at(start + f * (end - start), what), self.title, self.watcher)
        inner.stop, inner.enough = self.stop, self.enough
        return inner


def silent() -> Progress:
    """A Progress that nobody listens to."""
    return Progress()
