"""Work of kernels on two cores: two halves of what there is, at once."""

from __future__ import annotations

import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

FEW = 40_000
"""Below so many elements handing over costs more than it saves."""
_here = threading.local()


def _second_core() -> ThreadPoolExecutor:
    """One for each thread that asks: a pane is not to wait until the halves of an alignment are done. It ends with its
    thread."""
    if not hasattr(_here, "pool"):
        _here.pool = ThreadPoolExecutor(1, thread_name_prefix="half")
    return _here.pool


def in_halves(count: int, work: Callable[[int, int], object], size: int | None = None) -> None:
    """Run `work(first, last)` on two halves of `count` rows at once.

    Parameters
    ----------
    size : int, optional
        How many elements these hold, where a row is more than one.
    """
    if (count if size is None else size) < FEW or count < 2:
        work(0, count)
        return
    half = count // 2
    other = _second_core().submit(work, half, count)
    work(0, half)
    other.result()
