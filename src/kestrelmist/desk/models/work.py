"""Long work in lanes that do not wait for one another: progress, time left, cancel; results come back as signals in the
window's thread."""

from __future__ import annotations

import queue
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, QTimer, Signal

from ...core.errors import Cancelled, Trouble
from ...core.progress import Progress
from ...core.waiting import Watch

LANES = ("view", "preview", "trial", "checks", "batch", "run")
"""What is in view; small things that follow it (histogram, surfaces); operations tried on the slice in view; checks;
work that was asked for; the run of a recipe, which may take hours and is not waited for."""
LOUD = ("batch", "run")
"""Their jobs have a bar in the Path, where nobody says otherwise."""
LOOK = 250
"""Milliseconds between looks at what the lanes wait for, and at who was cancelled."""
PATIENCE = 0.5
"""Seconds that a cancelled job is given to end by itself: some work of libraries cannot be stopped in the midst."""
SWITCH = 0.001
"""Seconds after which a thread that computes in Python gives way, so that the window answers."""


class Job(QObject):
    """One piece of work under way."""

    moved = Signal(float, str)
    showed = Signal(object)
    """What it has found so far."""
    ended = Signal(object, object, object)

    def __init__(
        self, title: str, work: Callable, done: Callable | None, failed: Callable | None, lane: str, loud: bool
    ):
        super().__init__()
        self.title, self.work, self.done, self.failed, self.lane, self.loud = title, work, done, failed, lane, loud
        self.edits_labels = False
        self.wanted = True
        """Whether there is still somebody to tell."""
        self.waits_for: Path | None = None
        """The file that gives nothing, when the job waits for one."""
        self.asked_to_end = 0.0
        """When it was seen to be cancelled."""
        self.left: Callable[[Any], Any] | None = None
        """Of a job that may be left when it is cancelled and does not end: what becomes of what it makes after all."""
        self.shown: list[Any] = []
        """All that it has found so far, state by state."""
        self._told = self._showed = 0.0
        self.progress = Progress(self._tell, title, self._show)

    def let_go(self) -> None:
        """Who asked for it is gone: nobody is told what comes of it."""
        self.wanted = False
        self.progress.cancel()

    def _tell(self, fraction: float, what: str) -> None:
        # a signal for every slice read would keep the window busy with nothing else
        now = time.monotonic()
        if now - self._told > 0.05 or fraction >= 1:
            self._told = now
            self.moved.emit(fraction, what)

    def _show(self, state: Any) -> None:
        now = time.monotonic()
        self.shown.append(state)
        if now - self._showed > 0.05 or getattr(state, "done", False):
            self._showed = now
            self.showed.emit(state)

    def run(self) -> None:
        result = error = None
        try:
            result = self.work(self.progress)
        except BaseException as caught:  # handed over to the window's thread, where it is shown or raised
            error = caught
        self.ended.emit(self, result, error)


class Lane:
    """A thread that runs one job after another. It does not hold up the end of the program: a read from a drive that is
    gone may never return."""

    def __init__(self, name: str):
        self.waiting: queue.SimpleQueue[Job | None] = queue.SimpleQueue()
        self.running: Job | None = None
        self.closed = False
        self.thread = threading.Thread(target=self._run, name=name, daemon=True)
        self.thread.start()
        self.watch = Watch(self.thread.ident or 0)

    def submit(self, job: Job) -> None:
        self.waiting.put(job)

    def _run(self) -> None:
        while (job := self.waiting.get()) is not None and not self.closed:
            self.running = job
            job.run()
            self.running = None

    def waits_for(self, seconds: float | None = None) -> Path | None:
        """The file its job waits for; see `core.waiting.Watch`."""
        return self.watch.waits_for(seconds) if self.running is not None and self.thread.is_alive() else None

    def close(self) -> None:
        """Let the thread end after the job it is at; jobs that have not begun are dropped."""
        self.closed = True
        self.waiting.put(None)

    def join(self) -> None:
        """Wait for the thread, unless it waits for a file that gives nothing."""
        while self.thread.is_alive() and self.waits_for(1.0) is None:
            self.thread.join(0.05)


class Work(QObject):
    """Runs jobs: those of one lane one after another, lanes beside each other; `loud` ones have a bar in the Path.

    A job that waits for a file that gives nothing is shown with the file's name, loud or not, and can be left: the
    thread waits on by itself, and the lane goes on with another one. So it does with one that was cancelled and does
    not end at once, when that changes nothing but what it makes.
    """

    changed = Signal()
    begun = Signal()
    """A loud job was asked for: what was said of the last one is old."""
    trouble = Signal(str)

    def __init__(self, parent=None):
        super().__init__(parent)
        self._lanes = {name: Lane(name) for name in LANES}
        self._left: list[Lane] = []
        self.jobs: list[Job] = []
        self._look = QTimer(self, interval=LOOK)
        self._look.timeout.connect(self._look_at_lanes)
        sys.setswitchinterval(SWITCH)

    @property
    def current(self) -> Job | None:
        """The loud job to show; the run of a recipe when nothing else is done."""
        return min((j for j in self.jobs if j.loud), key=lambda j: j.lane == "run", default=None)

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
        owner: QObject | None = None,
        left: Callable[[Any], Any] | None = None,
    ) -> Job:
        """Run `work(progress)` in a thread; then `done(result)` or `failed(error)` in the window's thread, unless the
        `owner` it is for is gone by then. One that changes nothing itself may be left when it is cancelled: `left` then
        gets what it makes after all.

        A Trouble nobody takes is shown as a sentence; a cancelled job ends silently.
        """
        job = Job(title, work, done, failed, lane, lane in LOUD if loud is None else loud)
        job.left = left
        if owner is not None:
            owner.destroyed.connect(job.let_go)
        job.moved.connect(self.changed)
        job.ended.connect(self._end)  # a bound method, so that it runs in this object's thread
        self.jobs.append(job)
        self._lanes[lane].submit(job)
        self._look.start()
        self.changed.emit()
        if job.loud:
            self.begun.emit()
        return job

    def _look_at_lanes(self) -> None:
        if self.idle:
            self._look.stop()
        for name, lane in self._lanes.items():
            job, path = lane.running, lane.waits_for()
            if job is None or job not in self.jobs:
                continue
            if job.progress.cancelled and job.asked_to_end == 0:
                job.asked_to_end = time.monotonic()
            if path is not None and job.progress.cancelled:
                gone = Trouble(
                    f"“{job.title}” was left, as a file gave nothing", "look whether its drive is still there", path
                )
                self._leave(name, job, gone)
            elif job.left and job.asked_to_end and time.monotonic() - job.asked_to_end >= PATIENCE:
                self._leave(name, job, Cancelled())
            elif path != job.waits_for:
                job.waits_for, job.loud = path, job.loud or path is not None
                self.changed.emit()

    def _leave(self, name: str, job: Job, why: BaseException) -> None:
        """Go on without a job: its thread ends by itself, when it next looks whether it is wanted."""
        left, self._lanes[name] = self._lanes[name], Lane(name)
        self._left = [lane for lane in self._left if lane.thread.is_alive()] + [left]
        left.close()
        try:
            while (waiting := left.waiting.get_nowait()) is not None:
                self._lanes[name].submit(waiting)
        except queue.Empty:
            pass
        left.waiting.put(None)
        self._end(job, None, why)

    def _end(self, job: Job, result: Any, error: BaseException | None) -> None:
        there = job in self.jobs
        if there:
            self.jobs.remove(job)
            self.changed.emit()
        if not there or not job.wanted:  # it was left, or let go, and has ended after all
            if error is None and job.left is not None:
                job.left(result)
            return
        if error is None:
            if job.done:
                job.done(result)
        elif isinstance(error, Cancelled):
            pass
        elif job.failed:
            job.failed(error)
        else:
            self.tell(job.title, error)

    def tell(self, title: str, error: BaseException) -> None:
        """Show an error that nobody takes as a sentence."""
        if isinstance(error, Trouble):
            self.trouble.emit(str(error))
        elif not isinstance(error, (KeyboardInterrupt, SystemExit)):
            self.trouble.emit(unexpected(title, error))

    def cancel_all(self) -> None:
        for job in self.jobs:
            job.progress.cancel()

    def close(self) -> None:
        self.cancel_all()
        for lane in self._lanes.values():
            lane.close()
        for lane in self._lanes.values():
            lane.join()
        for lane in self._left:
            lane.thread.join(PATIENCE)


def unexpected(title: str, error: BaseException) -> str:
    """The sentence for a fault of the program's own; the trace goes to the terminal."""
    if not isinstance(error, MemoryError):
        import traceback

        traceback.print_exception(error)
    return f"“{title}” failed unexpectedly ({type(error).__name__}: {error}); nothing was changed."
