"""How long something may take, and how much memory."""

from __future__ import annotations

import signal
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from .case import Failed

MOST_SECONDS = 20
ROOM = 60 << 20
"""Bytes that opening and planning may take besides ten times the file."""


@contextmanager
def within(what: str, size: int | None = None) -> Iterator[None]:
    """Fails when the block takes more than 20 s, or, with the size of a file in bytes, more memory than ten times that
    and 60 MB."""

    def late(*_) -> None:
        raise Failed(f"{what}: took more than {MOST_SECONDS} s")

    before = signal.signal(signal.SIGALRM, late)
    signal.setitimer(signal.ITIMER_REAL, MOST_SECONDS)
    started, held = time.monotonic(), _from_now()
    try:
        yield
    finally:
        signal.setitimer(signal.ITIMER_REAL, 0)
        signal.signal(signal.SIGALRM, before)
    taken = time.monotonic() - started
    if taken > MOST_SECONDS:
        raise Failed(f"{what}: took {taken:.0f} s")
    grown = _memory("VmHWM") - held
    if size is not None and held and grown > 10 * size + ROOM:
        raise Failed(f"{what}: {grown >> 20} MB for a file of {size >> 10} kB")


def _from_now() -> int:
    """Count the most memory anew; 0 where the system does not let us."""
    with suppress(OSError):
        Path("/proc/self/clear_refs").write_text("5")
        return _memory("VmRSS")
    return 0


def _memory(name: str) -> int:
    for line in Path("/proc/self/status").read_text().split("\n"):
        if line.startswith(name):
            return int(line.split()[1]) << 10
    return 0
