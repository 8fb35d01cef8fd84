"""Which label map a recipe draws on: the one that it has drawn on before with the same settings, else a new one, so
that what it gives does not depend on what was tried before."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING, Any

from ...core.errors import Trouble
from ...core.operation import find_operation
from ..items import Record
from ..journal.logbook import BY_HAND, Step
from .book import books
from .recipe import Recipe, RecipeStep

if TYPE_CHECKING:
    from ..study import Study


class DrawnOn:
    """The names of the things that the steps of one run draw on, such as label maps.

    One that was never drawn on by a step of the kind that the recipe begins with, such as one that a hand has made, is
    gone on with. One that was is, where what was done to it is what the recipe does; else a new one is begun beside it.
    """

    def __init__(self, study: Study, recipe: Recipe):
        self.study, self.recipe = study, recipe
        self._names: dict[tuple[int, str, str], str] = {}

    def name(self, text: str, owner: Record, part: str, kind: str, at: int) -> str:
        """What `part`, a name in the recipe, is called on a thing when step `at` (from 0) asks for it.

        Raises
        ------
        Trouble
            When it was changed by such a step with other settings in the midst of other work.
        """
        key = owner.id, kind, part.casefold()
        if key not in self._names:
            self._names[key] = self._found(text, owner, part, kind, at)
        return self._names[key]

    def _found(self, text: str, owner: Record, part: str, kind: str, at: int) -> str:
        steps = [step for step in self.recipe.steps[at:] if _target(step) == text]
        if not steps or _target(self.recipe.steps[at]) != text:
            return part  # it is only looked at first, so it has to be there
        first = find_operation(steps[0].operation).name
        numbered = f"{part.casefold()} ("
        taken = None
        for record in self.study.items.on(owner.id, kind):
            if record.removed or not (record.name.casefold() == part.casefold() or
                                      record.name.casefold().startswith(numbered)):  # fmt: skip
                continue
            done = self._done(record)
            if _begins(done, steps) and not self._by_runs(done[len(steps) :]):
                return record.name
            operations = [step.operation for step in done]
            if record.name.casefold() == part.casefold():
                if first not in operations:
                    return record.name
                if operations[0] != first:
                    title = find_operation(first).title
                    raise Trouble(
                        f"“{title}” was done to “{record.name}” of {owner.name} before, with other settings",
                        "undo that first, or have the recipe work on a copy",
                    )
                taken = record
        return part if taken is None else self.study.items.free_name(part, kind, taken.subject, owner.id)

    def _by_runs(self, more: list[Step]) -> bool:
        """Whether some of what was done afterwards was done by the run of a recipe, and not to mend what that gave."""
        if not more:
            return False
        lines = {c.step for book in books(self.study.folder) for cells in book.cells.values() for c in cells}
        return any(step.id in lines for step in more)

    def _done(self, record: Record) -> list[Step]:
        """The steps that have changed a thing, in their order; what a hand has done to it aside."""
        return [
            step
            for step in self.study.logbook.changing(record.id)
            if not step.undone and step.operation != BY_HAND and _changes(step, record.id)
        ]


def _target(step: RecipeStep) -> str:
    """The pointer to what a step edits; "" for one that edits nothing."""
    target = find_operation(step.operation).edited
    return step.inputs.get(target.name, [""])[0] if target is not None else ""


def _changes(step: Step, item: int) -> bool:
    return any(t.item == item for things in step.outputs.values() for t in things)


def _begins(done: list[Step], steps: list[RecipeStep]) -> bool:
    """Whether what was done is what steps of a recipe do, in their order, as far as both go."""
    return bool(done) and all(_alike(one, step) for one, step in zip(done, steps))


def _alike(done: Step, step: RecipeStep) -> bool:
    about = find_operation(step.operation)
    if done.operation != about.name or done.version != about.version:
        return False
    return _flat(done.settings) == _flat(about.written(about.checked(step.settings)))


def _flat(settings: dict[str, Any]) -> str:
    return json.dumps(settings, sort_keys=True, default=str)
