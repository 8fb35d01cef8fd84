"""Long work in lanes that do not wait for one another: progress, time left, cancel; results come back as signals in the
window's thread."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import Any

from PySide6.QtCore import QObject, Signal

from ..core.errors import Cancelled, Trouble
from ..core.progress import Progress

LANES = ("view", "preview", "checks", "batch")
"""What is in view; small things that follow it (histogram, surfaces); checks; work that was asked for."""
SWITCH = 0.001
"""Seconds after which a thread that computes in Python gives way, so that the window answers."""


class Job(QObject):
    """One piece of work under way."""

    moved = Signal(float, str)
    ended = Signal(object, object, object)

    def __init__(
        self, title: str, work: Callable, done: Callable | None, failed: Callable | None, lane: str, loud: bool
    ):
        super().__init__()
        self.title, self.work, self.done, self.failed, self.lane, self.loud = title, work, done, failed, lane, loud
        self.edits_labels = False
        self._told = 0.0
        self.progress = Progress(self._tell, title)

    def _tell(self, fraction: float, what: str) -> None:
        # a signal for every slice read would keep the window busy with nothing else
        now = time.monotonic()
        if now - self._told > 0.05 or fraction >= 1:
            self._told = now
            self.moved.emit(fraction, what)

    def run(self) -> None:
        result = error = None
        try:
            result = self.work(self.progress)
        except BaseException as caught:  # handed over to the window's thread, where it is shown or raised
            error = caught
        self.ended.emit(self, result, error)


class Work(QObject):
    """Runs jobs: those of one lane one after another, lanes beside each other; `loud` ones have a bar in the Path."""

    changed = Signal()
    begun = Signal()
    """A loud job was asked for: what was said of the last one is old."""
    trouble = Signal(str)

    def __init__(self, parent=None):
        super().__init__(parent)
        self._lanes = {name: ThreadPoolExecutor(1, thread_name_prefix=name) for name in LANES}
        self.jobs: list[Job] = []
        sys.setswitchinterval(SWITCH)

    @property
    def current(self) -> Job | None:
        """The loud job to show."""
        return next((j for j in self.jobs if j.loud), None)

    @property
    def idle(self) -> bool:
        return not self.jobs

    def start(
        self,
        title: str,
        work: Callable[[Progress], Any],
        done: Callable[[Any], Any] | None = None,
        failed: Callable[[BaseException], Any] | None = None,
        lane: str = "batch",
        loud: bool | None = None,
    ) -> Job:
        """Run `work(progress)` in a thread; then `done(result)` or `failed(error)` in the window's thread.

        A Trouble nobody takes is shown as a sentence; a cancelled job ends silently.
        """
        job = Job(title, work, done, failed, lane, lane == "batch" if loud is None else loud)
        job.moved.connect(self.changed)
        job.ended.connect(self._end)  # a bound method, so that it runs in this object's thread
        self.jobs.append(job)
        self._lanes[lane].submit(job.run)
        self.changed.emit()
        if job.loud:
            self.begun.emit()
        return job

    def _end(self, job: Job, result: Any, error: BaseException | None) -> None:
        self.jobs.remove(job)
        self.changed.emit()
        if error is None:
            if job.done:
                job.done(result)
        elif isinstance(error, Cancelled):
            pass
        elif job.failed:
            job.failed(error)
        elif isinstance(error, Trouble):
            self.trouble.emit(str(error))
        elif not isinstance(error, (KeyboardInterrupt, SystemExit)):
            self.trouble.emit(unexpected(job.title, error))

    def cancel_all(self) -> None:
        for job in self.jobs:
            job.progress.cancel()

    def close(self) -> None:
        self.cancel_all()
        for pool in self._lanes.values():
            pool.shutdown(wait=True, cancel_futures=True)


def unexpected(title: str, error: BaseException) -> str:
    """The sentence for a fault of the program's own; the trace goes to the terminal."""
    if not isinstance(error, MemoryError):
        import traceback

        traceback.print_exception(error)
    return f"“{title}” failed unexpectedly ({type(error).__name__}: {error}); nothing was changed."
