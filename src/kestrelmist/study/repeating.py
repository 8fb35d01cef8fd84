"""Running a recipe: slots are filled and checked first, work that is done already is found, inner results follow the
graph."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ..core.errors import Trouble
from ..core.kind import is_edited
from ..core.progress import Progress, silent
from ..core.sentence import is_none
from .given import Given, still_to_be_made
from .inputs import settle
from .items import Record
from .journal.history import Stale
from .journal.logbook import Step, Thing
from .keeping import keep_and_tell
from .recipe import Recipe, RecipeStep, Slot, pointer_of
from .referring import meant
from .slot_pattern import fitting, shown
from .store import store_for
from .subjects import standard_spaces
from .task import Made, Task, compute

if TYPE_CHECKING:
    from .study import Study


@dataclass(frozen=True)
class Done:
    """What came of one step: whether it was found done, and what it gave."""

    title: str
    found: bool
    result: Any = None


def fill_slots(study: Study, recipe: Recipe, subject: str | None = None) -> dict[str, Record]:
    """The things of a subject that fill the slots of a recipe; those of the subject it was made on when none is named.

    Raises
    ------
    Trouble
        Naming everything that is missing, or that fits more than once.
    """
    filled: dict[str, Record] = {}
    missing: list[str] = []
    for slot in recipe.slots:
        fits = _fitting(study, slot, subject or slot.subject or None)
        if len(fits) == 1:
            filled[slot.name] = fits[0]
        elif fits:
            told = ", ".join(str(r.reference) for r in fits[:6])
            missing.append(f"“{shown(slot.pattern)}” fits {len(fits)} {slot.kind}s ({told})")
        else:
            missing.append(f"there {is_none(slot.kind)} “{shown(slot.pattern)}”")
    missing += _maps_missing(study, recipe, filled)
    if missing:
        whose = f"{subject or recipe.subject or 'this study'}: "
        raise Trouble(f"This recipe cannot run on {whose}{'; '.join(missing)}", "gather or rename what is missing")
    return filled


def _maps_missing(study: Study, recipe: Recipe, filled: dict[str, Record]) -> list[str]:
    """Label maps that steps look for by name, which neither the subject has nor an earlier step makes by drawing on
    them."""
    from ..core.operation import find_operation

    missing, drawn = [], set()
    for step in recipe.steps:
        about = find_operation(step.operation)
        target = about.edited
        for p in about.inputs:
            for text in step.inputs.get(p.name, ()):
                pointer = pointer_of(text)
                if pointer is None or pointer[0] not in filled or pointer[2].part is None:
                    continue
                image, part = filled[str(pointer[0])], pointer[2].part
                there = {m.name.casefold() for m in study.label_maps(image.id)}
                sought = image.id, part.casefold()
                if target is not None and p.name == target.name:
                    drawn.add(sought)
                elif part.casefold() not in there and sought not in drawn:
                    missing.append(f"there is no label map “{part}” on “{image.name}”")
    return list(dict.fromkeys(missing))


def _fitting(study: Study, slot: Slot, subject: str | None) -> list[Record]:
    if slot.subject in standard_spaces(study):  # it is the same one for all
        subject = slot.subject
    pool = [r for r in study.items.of_kind(slot.kind) if subject is None or r.subject.casefold() == subject.casefold()]
    return fitting(slot.pattern, pool)


class RecipeRun:
    """One recipe on one subject, a step at a time: `next` gives the task to compute, `take` keeps what it made.

    Raises
    ------
    Trouble
        When slots cannot be filled, an input does not exist, or a step cannot be undone and nobody has allowed that;
        before anything runs.
    """

    def __init__(self, study: Study, recipe: Recipe, subject: str | None = None, allow_deleting: bool = False):
        recipe.require_allowed(writing=True, deleting=allow_deleting)
        self.study, self.recipe, self.subject = study, recipe, subject
        self.filled = fill_slots(study, recipe, subject)
        for step in recipe.steps:
            self._require_outside(step)
        self.at = 0
        self.done: list[Done] = []
        self._made: list[dict[str, list[Thing]]] = []
        self._matched: dict[int, int] = {}
        """For each label map, the last of its steps that a step of the recipe was found to be."""

    def _require_outside(self, step: RecipeStep) -> None:
        """Raises Trouble when something that is named outright is not there."""
        from ..core.operation import find_operation

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
            self._note(task, before.outputs, True, None)
        return None

    def take(self, task: Task, made: Made) -> None:
        """Keep what the task of `next` has made.

        Raises Stale when its label map has changed meanwhile; `next` then gives the task anew.
        """
        result, outputs = keep_and_tell(self.study, task, made)
        self._note(task, outputs, False, result if len(result) != 1 else next(iter(result.values())))

    def _note(self, task: Task, outputs: dict[str, tuple[Thing, ...]], found: bool, result: Any) -> None:
        self._made.append({name: list(things) for name, things in outputs.items()})
        self.done.append(Done(task.title, found, result))
        self.at += 1

    # from pointers to things

    def _task(self, step: RecipeStep) -> Task:
        from ..core.operation import find_operation

        given: dict[str, Any] = dict(step.settings)
        for p in find_operation(step.operation).inputs:
            told = [self._input(text, p.thing_kind) for text in step.inputs.get(p.name, ())]
            if told:
                given[p.name] = told if p.many else told[0]
        return settle(self.study, step.operation, given)

    def _input(self, text: str, kind: str) -> str | int | Given:
        """What an input is: the text of a reference, or what is still to be made."""
        pointer = pointer_of(text)
        if pointer is None:
            return text
        where, result, reference = pointer
        record = self._result(where, result) if isinstance(where, int) else self.filled[where]
        if reference.part is not None:
            fits = [r for r in self.study.items.on(record.id, kind) if r.name.casefold() == reference.part.casefold()]
            if fits:
                return fits[0].id
            # made when the first step that draws on it is kept; until then nothing of the study changes
            return still_to_be_made(record, kind, store_for(kind).blank(record, reference.part))
        if reference.place:
            return str(replace(record.reference, place=reference.place))
        return record.id

    def _result(self, step: int, name: str) -> Record:
        things = self._made[step - 1]
        named, _, which = name.rpartition(" ")
        several = things.get(name) or (things.get(named, [])[int(which) - 1 :] if which.isdigit() else [])
        item = several[0].item if several else None
        record = self.study.items.get(item) if item is not None else None
        if record is None:
            raise Trouble(f"Step {step} of this recipe has given no “{name}”", "run it without the step that needs it")
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
        Whose things fill the slots; the subject the recipe was made on when left out.
    told : callable, optional
        Called with each step that is done.
    allow_deleting : bool
        Do steps that cannot be undone, too.

    Raises
    ------
    Trouble
        Before anything runs when something is missing; else from a step. What earlier steps made stays.
    """
    progress = progress or silent()
    run = RecipeRun(study, recipe, subject, allow_deleting)
    while (task := run.next()) is not None:
        n = run.at
        part = progress.part(n / len(recipe.steps), (n + 1) / len(recipe.steps))
        made = compute(study, task, part)
        try:
            run.take(task, made)
        except Stale:
            continue
        if told:
            told(run.done[-1])
    return run.done


__all__ = ["Done", "RecipeRun", "fill_slots", "run_recipe"]
