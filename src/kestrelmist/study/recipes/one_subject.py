"""A recipe on one subject or run: work that is done already is found, inner results follow the graph."""

from __future__ import annotations

import json
from collections.abc import Callable
from contextlib import AbstractContextManager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ...core.errors import Trouble
from ...core.kind import is_edited
from ...core.mapping import Mapping
from ...core.one_thread import blas_in_one_thread
from ...core.parameter import Parameter
from ...core.progress import Progress, silent
from ..given import Given, still_to_be_made
from ..inputs import settle
from ..items import Record
from ..journal.history import Stale
from ..journal.logbook import Step, Thing
from ..journal.stacks import LongEntry
from ..keeping import keep_and_tell
from ..referring import meant
from ..store import store_for
from ..task import Made, Task, compute
from .drawn_on import DrawnOn
from .recipe import Recipe, RecipeStep, pointer_of
from .units import Cohort, Unit, require_filled

if TYPE_CHECKING:
    from ..study import Study


@dataclass(frozen=True)
class Done:
    """What came of one step: whether it was found done, and what it gave."""

    title: str
    found: bool
    result: Any = None
    line: int | None = None
    """Id of its line in the logbook."""


class RecipeRun:
    """One recipe on one unit, a step at a time: `next` gives the task to compute, `take` keeps what it made. The recipe
    is one as it runs (see `Recipe.running`); `entry` is what is undone together.

    Raises
    ------
    Trouble
        When slots cannot be filled, an input does not exist, or a step cannot be undone and nobody has allowed that;
        before anything runs.
    """

    def __init__(self, study: Study, recipe: Recipe, unit: Unit, entry: LongEntry, allow_deleting: bool = False):
        recipe.require_allowed(writing=True, deleting=allow_deleting)
        self.study, self.recipe, self.unit, self.entry = study, recipe, unit, entry
        self.filled = require_filled(unit)
        for step in recipe.steps:
            self._require_outside(step)
        self.at = 0
        self.done: list[Done] = []
        self._made: list[dict[str, list[Thing]]] = []
        self._drawn_on = DrawnOn(study, recipe)
        self._matched: dict[int, int] = {}
        """For each label map, the last of its steps that a step of the recipe was found to be."""

    def _require_outside(self, step: RecipeStep) -> None:
        """Raises Trouble when something that is named outright is not there."""
        from ...core.operation import find_operation

        for p in find_operation(step.operation).inputs:
            for text in step.inputs.get(p.name, ()):
                if pointer_of(text) is None:
                    meant(self.study, text, p.thing_kind)
        find_operation(step.operation).checked(step.settings)

    @property
    def over(self) -> bool:
        return self.at >= len(self.recipe.steps)

    def next(self) -> Task | None:
        """The next task that has to be computed; None when all is done. Steps found done on the way are passed over."""
        while not self.over:
            task = self._task(self.recipe.steps[self.at])
            before = self._done_before(task)
            if before is None:
                return task
            self._note(task, before.outputs, True, None, before.id)
        return None

    def take(self, task: Task, made: Made) -> None:
        """Keep what the task of `next` has made.

        Raises Stale when its label map has changed meanwhile; `next` then gives the task anew.
        """
        with self.together():
            result, outputs = keep_and_tell(self.study, task, made)
        self._note(task, outputs, False, result if len(result) != 1 else next(iter(result.values())), self.entry.step)

    def together(self) -> AbstractContextManager[LongEntry]:
        """What is kept meanwhile is undone together with all that this run, and those beside it, keep."""
        return self.study.history.together(self.entry)

    def _note(
        self, task: Task, outputs: dict[str, tuple[Thing, ...]], found: bool, result: Any, line: int | None
    ) -> None:
        self._made.append({name: list(things) for name, things in outputs.items()})
        self.done.append(Done(task.title, found, result, line))
        self.at += 1

    # from pointers to things

    def _task(self, step: RecipeStep) -> Task:
        from ...core.operation import find_operation

        about = find_operation(step.operation)
        given: dict[str, Any] = dict(step.settings)
        # what finds a way begins with none that it has found itself before: the second time gives what the first gave
        finds = any(issubclass(result.kind.type, Mapping) for result in about.results)
        for p in about.inputs:
            told = [one for text in step.inputs.get(p.name, ()) for one in self._inputs(text, p)]
            if told:
                given[p.name] = told if p.many else told[0]
        return settle(self.study, step.operation, given, look_for_ways=not finds)

    def _inputs(self, text: str, p: Parameter) -> list[str | int | Given]:
        """What an input is; of an input for many, all that a step gives under a name."""
        pointer = pointer_of(text)
        if p.many and pointer is not None and isinstance(pointer[0], int):
            things = self._made[pointer[0] - 1].get(pointer[1], [])
            if len(things) > 1:
                return [self._here(pointer[0], pointer[1], thing).id for thing in things]
        return [self._input(text, p.thing_kind)]

    def _input(self, text: str, kind: str) -> str | int | Given:
        """What an input is: the text of a reference, or what is still to be made."""
        pointer = pointer_of(text)
        if pointer is None:
            return text
        where, result, reference = pointer
        record = self._result(where, result) if isinstance(where, int) else self.filled[where]
        if reference.part is not None:
            name = self._drawn_on.name(text, record, reference.part, kind, self.at)
            fits = [r for r in self.study.items.on(record.id, kind) if r.name.casefold() == name.casefold()]
            if fits:
                return fits[0].id
            # made when the first step that draws on it is kept; until then nothing of the study changes
            return still_to_be_made(record, kind, store_for(kind).blank(record, name))
        if reference.place:
            return str(replace(record.reference, place=reference.place))
        return record.id

    def _result(self, step: int, name: str) -> Record:
        things = self._made[step - 1]
        named, _, which = name.rpartition(" ")
        several = things.get(name) or (things.get(named, [])[int(which) - 1 :] if which.isdigit() else [])
        if not several:
            raise Trouble(f"Step {step} of this recipe has given no “{name}”", "run it without the step that needs it")
        return self._here(step, name, several[0])

    def _here(self, step: int, name: str, thing: Thing) -> Record:
        record = self.study.items.get(thing.item) if thing.item is not None else None
        if record is None or record.removed:
            raise Trouble(f"What step {step} of this recipe gave as “{name}” is gone", "run the recipe again")
        return record

    # work that is done already

    def _done_before(self, task: Task) -> Step | None:
        written = [task.settings.get(p.name) for p in task.about.settings if p.role == "new"]
        if any(path and not Path(path).exists() for path in written):
            return None  # what it wrote outside the study has been taken away
        target = task.of(task.about.edited)
        if target is not None:
            return self._edited_before(task, target)
        return next((s for s in self.study.logbook.with_key(task.key) if self._still_there(s)), None)

    def _still_there(self, step: Step) -> bool:
        keys = [t.item for things in step.outputs.values() for t in things]
        records = [self.study.items.get(k) for k in keys if k is not None]
        return bool(records) and all(r is not None and not r.removed for r in records)

    def _edited_before(self, task: Task, target: Given) -> Step | None:
        """The step that has made this edit on this label map, after the ones found before it: the map goes on from
        there, and a hand may have mended it since."""
        if target.item is None:
            return None
        for step in self.study.logbook.entries():
            if step.undone or step.id <= self._matched.get(target.item, 0) or step.operation != task.operation:
                continue
            if _alike(step, task, target.item):
                self._matched[target.item] = step.id
                return step
        return None


def _alike(step: Step, task: Task, edited: int) -> bool:
    """Whether a step did what a task would do, whatever the state of the label map it edits."""
    if step.version != task.about.version or _flat(step.settings) != _flat(task.about.written(task.settings)):
        return False
    if not any(t.item == edited for things in step.outputs.values() for t in things):
        return False
    for name, given in task.inputs.items():
        then = step.inputs.get(name, ())
        if len(then) != len(given):
            return False
        for old, new in zip(then, given):
            if is_edited(old.kind):
                continue
            if (old.hash, old.place) != (new.thing.hash, new.thing.place):
                return False
    return True


def _flat(settings: dict[str, Any]) -> str:
    return json.dumps(settings, sort_keys=True, default=str)


def run_recipe(
    study: Study,
    recipe: Recipe,
    subject: str | None = None,
    progress: Progress | None = None,
    told: Callable[[Done], None] | None = None,
    allow_deleting: bool = False,
) -> list[Done]:
    """Do the steps of a recipe one after another on a subject; work that is done already is passed over.

    Parameters
    ----------
    subject : str, optional
        Whose things fill the slots; the subject the recipe was made on when left out. Where the steps are done for each
        run, they are done for all of the subject's.
    told : callable, optional
        Called with each step that is done.
    allow_deleting : bool
        Do steps that cannot be undone, too.

    Raises
    ------
    Trouble
        Before anything runs when something is missing; else from a step. What earlier steps made stays.
    """
    progress, recipe = progress or silent(), recipe.running()
    units = Cohort(study, recipe).of(subject)
    entry = LongEntry(f"Recipe “{recipe.title}”")
    runs = [RecipeRun(study, recipe, unit, entry, allow_deleting) for unit in units]
    total = max(1, len(runs) * len(recipe.steps))
    try:
        for k, run in enumerate(runs):
            while (task := run.next()) is not None:
                n = k * len(recipe.steps) + run.at
                with blas_in_one_thread(), run.together():
                    made = compute(study, task, progress.part(n / total, (n + 1) / total))
                try:
                    run.take(task, made)
                except Stale:
                    continue
                if told:
                    told(run.done[-1])
    finally:
        study.history.over(entry)
    return [done for run in runs for done in run.done]


__all__ = ["Done", "RecipeRun", "run_recipe"]
