"""Reads that give nothing, as from a network drive that is gone: a thread notes what it reads, another one can see that
it waits.

A thread that waits for a drive cannot be woken; all that can be done is to say so, and to go on without it.
"""

from __future__ import annotations

import threading
import time
from pathlib import Path

SECONDS = 5.0
"""A read that has given nothing for so long is named."""


class reading:
    """While its block runs, this thread is known to read a file or a folder; the innermost block counts. With `shared`
    it may be another thread that reads, while this one waits for it."""

    __slots__ = ("path", "shared", "_before")

    def __init__(self, path: str | Path, shared: bool = False):
        self.path, self.shared = path, shared

    def __enter__(self) -> None:
        me = threading.get_ident()
        self._before = _now.get(me)
        _now[me] = self

    def __exit__(self, *_) -> None:
        me = threading.get_ident()
        if self._before is None:
            _now.pop(me, None)
        else:
            _now[me] = self._before


_now: dict[int, reading] = {}


class Watch:
    """Looks at a thread now and then, from another one.

    Parameters
    ----------
    thread : int
        Its identity; the thread must live as long as it is looked at.
    """

    def __init__(self, thread: int):
        self.thread = thread
        self._read: reading | None = None
        self._busy = self._since = 0.0

    def waits_for(self, seconds: float | None = None) -> Path | None:
        """The file that the thread has been waiting for since so many seconds; None when it reads none, or computes.

        A thread that computes uses the processor, one that waits for a drive does not. Of a read that another thread
        may do, the whole program must be idle.
        """
        read, now = _now.get(self.thread), time.monotonic()
        if read is not None and read.shared:
            busy, idle = time.process_time(), 0.05
        else:
            busy, idle = time.clock_gettime(time.pthread_getcpuclockid(self.thread)), 0.01
        if read is None or read is not self._read or busy - self._busy > 0.002 + idle * (now - self._since):
            self._busy, self._read, self._since = busy, read, now
            return None
        return Path(read.path) if now - self._since >= (SECONDS if seconds is None else seconds) else None


def waiting_sentence(path: Path) -> str:
    """What a person is told."""
    return f"“{path}” gives nothing: is its drive gone?"
