"""A recipe on many: tasks are done wherever there is room, one after another for each unit, and taken in here."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Collection, Sequence
from concurrent.futures import Future
from functools import partial
from typing import TYPE_CHECKING, Any, TypeVar

from ...core.errors import Cancelled, DiskFull, Trouble
from ...core.kind import is_edited
from ...core.memory import free_bytes
from ...core.progress import Progress, silent
from ...core.table import Table
from ..items import ImageRecord
from ..journal.history import Stale
from ..journal.stacks import LongEntry
from ..keeping import AlreadyThere
from ..store import clear_sides
from ..task import Made, Task, compute
from . import book as states
from .book import Order, RunBook, begin
from .control import Calm, Control
from .needs import memory_for
from .one_subject import RecipeRun
from .parcel import parcel_of
from .place import Gone, Lost, Place
from .places import place_for
from .recipe import Recipe
from .run_tables import table_of
from .units import Cohort, Unit

if TYPE_CHECKING:
    from ..study import Study

T = TypeVar("T")

LOOKED_FOR = 0.2
"""Seconds between looks at whether somebody wants it to end."""
TRIES = 2
"""Times that a task is sent whose process ended."""
SHARE = 0.7
"""Of the memory that is free, what tasks on this machine may take at once."""


class Runner:
    """Goes on with the run of a book until every unit is over. All that it keeps is one entry of the history.

    Parameters
    ----------
    study : Study
    book : RunBook
    place : Place
    progress : Progress
    control : Control, optional
    only : collection of str, optional
        Keys of the units to go on with; all that are not over when left out.
    calm : Calm, optional
        Where somebody may be drawing meanwhile.
    """

    def __init__(
        self,
        study: Study,
        book: RunBook,
        place: Place,
        progress: Progress | None = None,
        control: Control | None = None,
        only: Collection[str] | None = None,
        calm: Calm | None = None,
    ):
        study.catalogue.require_writable()
        self.study, self.book, self.place = study, book, place
        self.progress, self.control, self.calm = progress or silent(), control or Control(), calm or Calm()
        self.recipe = book.order.recipe.running()
        self.entry = LongEntry(f"Recipe “{book.order.name or self.recipe.title}”")
        wanted = [u for u in book.unfinished if only is None or u in only]
        self.ready: deque[str] = deque(wanted)
        self.total = max(1, len(wanted))
        self.over = 0
        self._runs: dict[str, RecipeRun] = {}
        self._tries: dict[tuple[str, int], int] = {}
        self._at: dict[Future, tuple[str, Task, int]] = {}
        """What is being done: of which unit, the task, and the memory it may take."""
        self._waits: set[str] = set()
        """Units whose next task is being done for another unit, as what is worked out of a standard space: they go on
        when that is over, and find it done."""
        self._room = SHARE * free_bytes()

    def run(self) -> None:
        """Do it.

        Raises
        ------
        Cancelled
            When somebody wanted it to end; the book says so, and nothing is lost.
        Trouble
            When nothing can be gone on with: the disk is full, the cluster is away.
        """
        for unit in list(self.ready):
            self.book.begin_again(unit)
        ended = False
        states.UNDER_WAY.add(self.book.folder)
        try:
            while self.ready or self._at:
                self._tell()
                self._send_some()
                if self._at:
                    for future in self.place.wait(self._at, LOOKED_FOR):
                        self._take(future)
                elif self.control.paused:
                    self.control._go.wait(LOOKED_FOR)
            ended = True
        finally:
            self.place.close(not ended)
            if not ended:
                self._stop()
            states.UNDER_WAY.discard(self.book.folder)
            clear_sides(self.study.folder)
            self.study.history.over(self.entry)
            self.book.close()

    def _tell(self) -> None:
        steps = sum(run.at for run in self._runs.values()) / max(1, len(self.recipe.steps))
        words = "Paused" if self.control.paused else f"{self.over} of {self.total} done"
        self.progress.at(min(1.0, (self.over + steps) / self.total), words)

    def _send_some(self) -> None:
        while self.ready and not self.control.paused and len(self._at) < self.place.width:
            unit = self.ready.popleft()
            task = self._next(unit)
            if task is None:
                continue
            need = memory_of(self.study, task)
            taken = sum(other for _, _, other in self._at.values())
            if self._at and taken + need > self._room:
                self.ready.appendleft(unit)
                return
            run = self._runs[unit]
            if task.key and any(task.key == other.key for _, other, _ in self._at.values()):
                self._waits.add(unit)
                continue
            if task.about.acts:  # only this process may change the study
                self._do_here(unit, run, task)
                continue
            self.book.step(unit, run.at, states.RUNNING)
            try:
                parcel = self._in_calm(self.calm.read, task, partial(parcel_of, self.study, task))
                self._at[self.place.send(parcel)] = unit, task, need
            except Gone:
                raise
            except Trouble as trouble:
                self._fail(unit, run.at, trouble)
            self.progress.at(self.progress.fraction)

    def _next(self, unit: str) -> Task | None:
        """The next task of a unit; None when it is over, which the book says then."""
        run = self._runs.get(unit)
        if run is None:
            try:
                found = self._found(unit)
                allow_deleting = self.book.order.allow_deleting
                run = self._runs[unit] = RecipeRun(self.study, self.recipe, found, self.entry, allow_deleting)
            except Trouble as trouble:
                self.book.write(unit, state=states.MISSING, what=str(trouble))
                self.over += 1
                return None
        before = run.at
        try:
            task = run.next()
        except Trouble as trouble:
            self._found_done(unit, run, before)
            self._fail(unit, run.at, trouble)
            return None
        self._found_done(unit, run, before)
        if task is None:
            self._runs.pop(unit)
            self.over += 1
        return task

    def _found_done(self, unit: str, run: RecipeRun, before: int) -> None:
        """Steps that were found done on the way; those that this run has done stay so."""
        for n in range(before, run.at):
            if self.book.cells[unit][n].state != states.DONE:
                self.book.step(unit, n, states.FOUND, line=run.done[n].line)

    def _found(self, unit: str) -> Unit:
        """The unit as it is now; raises Trouble when it is gone."""
        _, subject, name = next(u for u in self.book.order.units if u[0] == unit)
        record = self.study.items.get(int(unit)) if unit.isdigit() else None
        if record is not None:
            subject = record.subject  # it may have been moved or renamed
        cohort = Cohort(self.study, self.recipe, self.book.order.use)
        found = next((u for u in cohort.of(subject) if u.key == unit), None)
        if found is None:
            whose = f"{subject} {name}".strip()
            raise Trouble(f"“{whose}” is no longer in the study, or fits the recipe no longer", "bring it back")
        return found

    def _do_here(self, unit: str, run: RecipeRun, task: Task) -> None:
        self.book.step(unit, run.at, states.RUNNING)
        try:
            part = self.progress.part(self.progress.fraction, self.progress.fraction)

            def done() -> Made:
                with run.together():
                    return compute(self.study, task, part)

            self._keep(unit, run, task, done() if task.about.slow else self.calm.change(self._images(task), done))
        except (Cancelled, DiskFull):
            raise
        except Exception as error:
            self._fail(unit, run.at, error)

    def _take(self, future: Future) -> None:
        unit, task, _ = self._at.pop(future)
        self.ready.extend(self._waits)
        self._waits.clear()
        run = self._runs[unit]
        try:
            self._keep(unit, run, task, self.place.outcome(future))
        except Lost:
            self._lost(unit, run)
        except (Cancelled, DiskFull, Gone):
            raise
        except Exception as error:
            self._fail(unit, run.at, error)

    def _keep(self, unit: str, run: RecipeRun, task: Task, made: Any) -> None:
        n, seconds = run.at, made.seconds
        try:
            self._in_calm(self.calm.change, task, partial(run.take, task, made))
        except (Stale, AlreadyThere):  # another unit may have made the same of the same meanwhile
            made.drop()  # `next` gives the task anew, or finds it done
            self.ready.appendleft(unit)
            return
        self.book.step(unit, n, states.DONE, seconds=round(seconds, 3), line=run.done[n].line)
        if run.over:
            self._runs.pop(unit)
            self.over += 1
        else:
            self.ready.appendleft(unit)  # what is begun is ended first

    def _in_calm(self, calm: Callable[[set[int], Callable[[], T]], T], task: Task, do: Callable[[], T]) -> T:
        """Do something that may touch what a hand is drawing on when it does not."""
        given = (g for several in task.inputs.values() for g in several)
        return calm(self._images(task), do) if any(is_edited(g.thing.kind) for g in given) else do()

    def _images(self, task: Task) -> set[int]:
        """The images of a task, and those that its label maps and marks are of."""
        given = [g for several in task.inputs.values() for g in several]
        records = [self.study.items.get(g.item) for g in given if g.item is not None]
        found = {g.of for g in given} | {g.item for g in given} | {r.of for r in records if r is not None}
        return {key for key in found if key is not None}

    def _lost(self, unit: str, run: RecipeRun) -> None:
        tries = self._tries[unit, run.at] = self._tries.get((unit, run.at), 0) + 1
        if tries >= TRIES:
            what = "The process that did this step ended in the middle of it, twice"
            self._fail(unit, run.at, Trouble(what, "run fewer at a time: there may be too little memory"))
        else:
            self.ready.appendleft(unit)

    def _fail(self, unit: str, n: int, error: BaseException) -> None:
        self.book.failed(unit, min(n, len(self.recipe.steps) - 1), error)
        self._runs.pop(unit, None)
        self.over += 1

    def _stop(self) -> None:
        """What was being done is not done."""
        try:
            for unit, cells in self.book.cells.items():
                for n, cell in enumerate(cells):
                    if cell.state == states.RUNNING:
                        self.book.step(unit, n, states.STOPPED)
        except Trouble:
            return  # the disk is full: the book is read as if the process had been killed


def memory_of(study: Study, task: Task) -> int:
    """About how many bytes a task may take: copies of the largest volume, and the series where it is taken whole."""
    most = 0
    for given in (g for several in task.inputs.values() for g in several):
        record = study.items.get(given.item) if given.item is not None else None
        if isinstance(record, ImageRecord):
            most = max(most, memory_for(record, not given.thing.place and "series" in task.about.takes))
    return most


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
        One row a unit; see `table_of`.
    """
    study.catalogue.require_writable()
    recipe.require_allowed(writing=True, deleting=allow_deleting)
    book = begin(study.folder, order_of(study, recipe, subjects, allow_deleting=allow_deleting))
    place = place_for(workers, folder=study.folder, progress=progress)
    try:
        Runner(study, book, place, progress).run()
    except Cancelled:
        pass
    return table_of(book)


def order_of(
    study: Study,
    recipe: Recipe,
    subjects: list[str] | None = None,
    part: tuple[int, int] = (1, 1),
    units: Sequence[Unit] | None = None,
    **facts: Any,
) -> Order:
    """The order of a run on subjects, or on all, or on units that are known; of part k of n, every n-th unit from the
    k-th on. Raises Trouble when there is nobody."""
    units = Cohort(study, recipe.running()).units(subjects) if units is None else units
    if not units:
        raise Trouble("There is no subject in this study", "gather some images first", study.folder)
    k, n = part
    mine = units[k - 1 :: n]
    if not mine:
        raise Trouble(f"Part {k} of {n} has nobody: there are {len(units)}", "use fewer parts", study.folder)
    comes_in = {u.key: {name: f"{one.record.reference}, {one.whence}" for name, one in u.filled.items()} for u in mine}
    return Order(recipe, units=tuple((u.key, u.subject, u.name) for u in mine), comes_in=comes_in, **facts)
