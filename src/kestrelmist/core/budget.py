"""One budget of bytes for all that is kept in memory and can be fetched again: what is looked at least goes first."""

from __future__ import annotations

import threading
import weakref
from collections import OrderedDict
from collections.abc import Callable
from typing import Any

from .memory import total_bytes

SHARE = 0.5
"""Part of the machine's memory that may be filled with what can be fetched again."""


class Budget:
    """Knows what is kept, and asks the oldest to let go when there is too much.

    Parameters
    ----------
    limit : int
        Bytes, or whatever else there is only so much of.
    """

    def __init__(self, limit: int):
        self.limit = limit
        self._kept: OrderedDict[int, tuple[weakref.ref, int, Callable]] = OrderedDict()
        self.used = 0
        """Bytes kept at present."""
        self._lock = threading.RLock()  # what is thrown away while it is held is forgotten within it

    def use(self, thing, size: int, release: Callable[[Any], None]) -> None:
        """Say that a thing of `size` bytes is being looked at; `release(thing)` is called when it has to go."""
        key = id(thing)
        going = []
        with self._lock:
            if key in self._kept and self._kept[key][1] == size:
                self._kept.move_to_end(key)
                return
            self.forget(key)
            self._kept[key] = weakref.ref(thing, lambda _: self.forget(key)), size, release
            self.used += size
            while self.used > self.limit and len(self._kept) > 1:
                other, (reference, _, let_go) = next(iter(self._kept.items()))
                if other == key:
                    break
                self.forget(other)
                going.append((reference(), let_go))
        for old, let_go in going:  # outside the lock: what lets go may look at the budget
            if old is not None:
                let_go(old)

    def forget(self, key: int) -> None:
        """A thing is no longer kept."""
        with self._lock:
            found = self._kept.pop(key, None)
            self.used -= found[1] if found is not None else 0


BUDGET = Budget(int(SHARE * total_bytes()))
HANDLES = Budget(200)
"""Files that values are read straight from: each is a handle, of which a process has a thousand or so."""
