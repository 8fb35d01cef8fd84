"""The recipe of a part of the logbook: what comes from outside is turned into named slots."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from pathlib import Path

from ...core.kind import is_edited, owner_kind
from ...core.operation import operation_called
from ...core.reference import quoted
from ..journal.logbook import BY_HAND, Step, Thing
from .recipe import Recipe, RecipeStep, Slot
from .slot_pattern import pattern_of


class _Maker:
    """Follows the graph from step to step."""

    def __init__(self, with_files: bool) -> None:
        self.with_files = with_files
        self.slots: dict[tuple[str, str, str] | int, Slot] = {}
        """By the thing that fills one, or by its kind, name and subject where nobody knows which it was."""
        self.called: dict[tuple[str, str, str], int] = {}
        self.made: dict[int, tuple[str, Thing]] = {}
        """What steps of the recipe have made, by id: the pointer to it, and the thing."""
        self.steps: list[RecipeStep] = []
        self.by_hand: list[str] = []

    def add(self, step: Step) -> None:
        known = operation_called(step.operation)
        if step.undone:
            return
        if known is None or not known.repeats:
            if step.operation == BY_HAND:
                self.by_hand.append(f"{step.made[:16]} {step.sentence}")
            return
        if not self.with_files and known.brings_files:
            return
        roles = {p.name for p in known.inputs}
        # a way between two spaces was found among the transforms there were: the next subject has its own
        found = {p.name for p in known.inputs if p.leads is not None}
        # on things that were there
        drawn = {r.name for r in known.results if r.kind.is_change and is_edited(r.kind.alters)}
        # an image without a label map had nothing to give to what only reads it, and the next one may have none either
        asked = drawn or known.lead is None
        inputs = {
            role: [self.pointer(t) for t in things]
            for role, things in step.inputs.items()
            if things and role in roles and (asked or not things[0].blank)
            if role not in found or things[0].item is not None or things[0].path
        }
        self.steps.append(RecipeStep(step.operation, known.counting(step.settings), inputs))
        for name, things in step.outputs.items():
            for n, thing in enumerate(things):
                if thing.item is not None and name not in drawn:
                    which = f" {n + 1}" if len(things) > 1 else ""
                    self.made.setdefault(thing.item, (f"${len(self.steps)}.{name}{which}", thing))

    def pointer(self, thing: Thing) -> str:
        place = f"@{','.join(map(str, thing.place))}" if thing.place else ""
        if thing.path:
            part = f"#{quoted(thing.name)}" if thing.name != Path(thing.path).name else ""
            return f"{thing.path}{part}{place}"
        if thing.item in self.made:
            return self.made[thing.item][0] + place
        if owner := owner_kind(thing.kind):
            # a label map is found through its image, wherever that comes from
            named = owner, thing.of, thing.subject
            fits = [pointer for pointer, made in self.made.values() if (made.kind, made.name, made.subject) == named]
            return f"{fits[-1] if fits else self.slot(*named)}#{quoted(thing.name)}"
        return self.slot(thing.kind, thing.name, thing.subject, thing.item) + place

    def slot(self, kind: str, name: str, subject: str, item: int | None = None) -> str:
        """One for each thing, which may have had several names: the last one is looked for."""
        called = (kind, name.casefold(), subject)
        if item is not None:
            self.called[called] = item
        key = self.called.get(called, called)
        if key in self.slots:
            self.slots[key] = replace(self.slots[key], pattern=pattern_of(name, subject))
        else:
            count = sum(s.kind == kind for s in self.slots.values()) + 1
            self.slots[key] = Slot(f"{kind} {count}", kind, pattern_of(name, subject), subject)
        return f"${self.slots[key].name}"


def recipe_of(steps: Iterable[Step], *, with_files: bool = False) -> Recipe:
    """The recipe of some steps of the logbook. Steps that were undone are not in it, nor those no recipe can repeat.

    With `with_files`, steps that bring files into the study are in it: such a recipe makes the same study once more.
    Without, what they brought is looked for within the subject, which is what the next subject needs.
    """
    maker = _Maker(with_files)
    for step in steps:
        maker.add(step)
    return Recipe(tuple(maker.slots.values()), tuple(maker.steps), tuple(maker.by_hand))
