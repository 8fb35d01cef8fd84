"""A recipe on many subjects: tasks are computed in processes, one after another for each subject, and taken in here."""

from __future__ import annotations

import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ..core.errors import Cancelled, Trouble
from ..core.progress import Progress, silent
from ..core.table import Column, Table
from .journal.history import Stale
from .recipe import Recipe
from .repeating import RecipeRun
from .store import clear_sides
from .subjects import standard_spaces
from .task import Made, Task, compute

if TYPE_CHECKING:
    from .study import Study


class _Subject:
    """How far one subject is."""

    def __init__(self, name: str):
        self.name = name
        self.run: RecipeRun | None = None
        self.task: Task | None = None
        self.sentence = ""
        self.state = "waiting"
        self.started = time.monotonic()
        self.seconds = 0.0

    def end(self, state: str, sentence: str = "") -> None:
        self.state, self.sentence, self.seconds = state, sentence, time.monotonic() - self.started


def run_cohort(
    study: Study,
    recipe: Recipe,
    subjects: list[str] | None = None,
    workers: int = 1,
    progress: Progress | None = None,
    allow_deleting: bool = False,
) -> Table:
    """Run a recipe on subjects of a study. One that fails does not stop the others.

    Parameters
    ----------
    subjects : list of str, optional
        All that have something on the Shelf when left out.
    workers : int
        Processes that compute; 0 computes in this one.
    allow_deleting : bool
        Do steps that cannot be undone, too.

    Returns
    -------
    Table
        One row a subject: state ("done", "was done", "missing", "failed", "stopped"), steps done, steps that were done
        before, what went wrong, and seconds.
    """
    progress = progress or silent()
    study.catalogue.require_writable()
    everyone = [_Subject(name) for name in (_named(study, subjects))]
    if not everyone:
        raise Trouble("There is no subject in this study", "gather some images first", study.folder)
    for one in everyone:  # what is missing is said before anything starts
        try:
            one.run = RecipeRun(study, recipe, one.name, allow_deleting)
        except Trouble as trouble:
            one.end("missing", str(trouble))
    ready = [one for one in everyone if one.run is not None]
    try:
        _work(study, ready, recipe, workers, progress)
    except Cancelled:
        for one in ready:
            if one.state == "waiting":
                one.end("stopped")
    finally:
        clear_sides(study.folder)
    return _table(recipe, everyone)


def _named(study: Study, subjects: list[str] | None) -> list[str]:
    """Those that are named, or every subject; a standard space is none."""
    standard = standard_spaces(study)
    return subjects if subjects is not None else [name for name in study.subjects() if name not in standard]


def _work(study: Study, ready: list[_Subject], recipe: Recipe, workers: int, progress: Progress) -> None:
    total = max(1, len(ready) * len(recipe.steps))
    if workers < 1:
        for one in ready:
            while _advance(one):
                _told(progress, ready, total)
                _here(study, one, progress)
        return
    _in_processes(study, ready, workers, progress, total)


def _here(study: Study, one: _Subject, progress: Progress) -> None:
    """Compute a subject's next step in this process, and keep it."""
    assert one.task is not None
    try:
        _took(study, one, compute(study, one.task, progress.part(progress.fraction, progress.fraction)))
    except Trouble as trouble:
        one.end("failed", str(trouble))


def _in_processes(study: Study, ready: list[_Subject], workers: int, progress: Progress, total: int) -> None:
    """Each subject's next step is computed in a process; what comes of it is kept here, one after another."""
    from concurrent.futures import FIRST_COMPLETED, Future, wait

    from ..core.workers import worker_pool

    pool = worker_pool(workers)
    waiting: dict[Future, _Subject] = {}

    def send(one: _Subject) -> None:
        while _advance(one):
            assert one.task is not None
            if not one.task.about.acts:
                waiting[pool.submit(compute_away, study.folder, one.task)] = one
                return
            _here(study, one, progress)  # only this process may change the study

    try:
        for one in ready:
            send(one)
        while waiting:
            finished, _ = wait(waiting, timeout=0.2, return_when=FIRST_COMPLETED)
            _told(progress, ready, total)
            for future in finished:
                one = waiting.pop(future)
                try:
                    _took(study, one, future.result())
                except Trouble as trouble:
                    one.end("failed", str(trouble))
                except Exception as error:  # a worker that died, say for want of memory
                    one.end("failed", f"The work failed ({type(error).__name__}: {error})")
                send(one)
    except BaseException:
        for process in list((pool._processes or {}).values()):  # a kernel in another process knows no cancel
            process.kill()
        raise
    finally:
        pool.shutdown(wait=True, cancel_futures=True)


def _advance(one: _Subject) -> bool:
    """Whether there is a task to compute; the subject's state is set when there is none."""
    if one.state != "waiting" or one.run is None:
        return False
    try:
        one.task = one.run.next()
    except Trouble as trouble:
        one.end("failed", str(trouble))
        return False
    if one.task is None:
        one.end("was done" if one.run.done and all(d.found for d in one.run.done) else "done")
    return one.task is not None


def _took(study: Study, one: _Subject, made: Made) -> None:
    assert one.run is not None and one.task is not None
    try:
        one.run.take(one.task, made)
    except Stale:
        made.drop()  # `next` gives the task anew


def _told(progress: Progress, ready: list[_Subject], total: int) -> None:
    steps = sum(len(one.run.done) for one in ready if one.run is not None)
    progress.at(steps / total, f"{sum(one.state != 'waiting' for one in ready)} of {len(ready)} subjects")


def _table(recipe: Recipe, everyone: list[_Subject]) -> Table:
    table = Table(
        "Recipe on all subjects",
        [
            Column("subject"),
            Column("state"),
            Column("steps_done"),
            Column("steps_found_done", shown_as="found done"),
            Column("what"),
            Column("seconds", "s", 1),
        ],
    )
    for one in everyone:
        done = one.run.done if one.run is not None else []
        found = sum(d.found for d in done)
        table.rows.append((one.name, one.state, len(done) - found, found, one.sentence, one.seconds))
    return table


_open: dict[str, Any] = {}
"""The study of this worker process, kept open from task to task."""


def compute_away(folder: Path, task: Task) -> Made:
    """Compute a task in this process, which may read the study and change nothing of it; what is made lies in side
    folders."""
    from .study import Study

    if str(folder) not in _open:
        _open[str(folder)] = Study(folder, read_only=True)
    study = _open[str(folder)]
    study.look_again()
    made = compute(study, task, Progress())
    for name, several in made.prepared.items():
        # things stay in their side folders; what is sent back is small
        many = isinstance(made.values[name], list)
        made.values[name] = [None] * len(several) if many else None
    return made
