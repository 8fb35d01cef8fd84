"""Processes that work for this one, and end when it does, however it ends."""

from __future__ import annotations

import os
import threading
import time
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from concurrent.futures import ProcessPoolExecutor

GIVES_WAY = 5
"""Steps by which workers stand behind the window and all other programs, which shall answer at once."""
LOOK = 0.3
"""Seconds between a worker's looks at whether its parent is still there."""


def worker_pool(workers: int) -> ProcessPoolExecutor:
    """A pool of processes begun anew, which share nothing with this one and give way to it.

    A pool's own processes wait for work for ever when the one that they work for is killed.
    """
    from concurrent.futures import ProcessPoolExecutor  # a start of the program without them is quicker
    from multiprocessing import get_context

    return ProcessPoolExecutor(workers, mp_context=get_context("spawn"), initializer=_begin, initargs=(os.getpid(),))


def _begin(parent: int) -> None:
    os.nice(GIVES_WAY)
    end_with_parent(parent)


def end_with_parent(parent: int) -> None:
    """Have this process end as soon as that one is no longer its parent."""
    threading.Thread(target=_look, args=(parent,), name="parent", daemon=True).start()


def _look(parent: int) -> None:
    while os.getppid() == parent:
        time.sleep(LOOK)
    os._exit(1)  # whoever would hear of it is gone; what is half written lies beside, and is cleared
