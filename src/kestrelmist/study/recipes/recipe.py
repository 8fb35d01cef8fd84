"""Recipes: a part of the logbook's graph, with what comes from outside turned into named slots.

Each slot has a kind and the name by which it is found within the subject; each step names its inputs by slots
(`$image 1`), by results of earlier steps (`$2.image`), or by references to things that stay the same for every subject.
`#labels` behind a slot or a result is a label map on that image, `@3` one volume of a series.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Any

from ...core.errors import Trouble
from ...core.operation import find_operation
from ...core.reference import Reference

RUNS = frozenset({"recipe", "resume-run", "take-parts"})
"""Operations that run recipes."""
MADE = re.compile(r"^\$(\d+)\.([^@#]+)(.*)$", re.S)
"""A pointer to what an earlier step gives: its number, the name of its result, and labels or place of that."""


@dataclass(frozen=True)
class Slot:
    """Something that comes from outside.

    Parameters
    ----------
    name : str
        What it is for: "Run", "Anatomy".
    kind : str
    pattern : str
        The name by which it is found within a subject; see `slot_pattern`.
    subject : str
        Whose it was when the recipe was made.
    always : bool
        Whether it is that subject's whoever the steps are done on, as what is of a standard space.
    each : bool
        Whether the steps are done once for each that fits, as for runs and visits; else one alone may fit, of those
        of the same visit and run where there are several.
    """

    name: str
    kind: str
    pattern: str
    subject: str = ""
    each: bool = False
    always: bool = False


@dataclass(frozen=True)
class RecipeStep:
    """An operation, its settings, and where each of its inputs comes from; `off` is one that is passed by."""

    operation: str
    settings: dict[str, Any] = field(default_factory=dict)
    inputs: dict[str, list[str]] = field(default_factory=dict)
    off: bool = False

    @property
    def pointers(self) -> list[str]:
        return [text for several in self.inputs.values() for text in several]


@dataclass(frozen=True)
class Expected:
    """What the task expects of every series, and what the study is after; None for what nobody has said.

    Parameters
    ----------
    volumes : int
    repetition_time : float
        In s.
    structure : float
        The smallest structure of interest, in mm: nothing should be smoothed wider.
    """

    volumes: int | None = None
    repetition_time: float | None = None
    structure: float | None = None


@dataclass(frozen=True)
class Recipe:
    """Steps that can be done again. `by_hand` is what a hand has done, which no recipe repeats; for people to read."""

    slots: tuple[Slot, ...] = ()
    steps: tuple[RecipeStep, ...] = ()
    by_hand: tuple[str, ...] = ()
    title: str = ""
    note: str = ""
    expected: Expected = Expected()

    def writes(self) -> list[tuple[str, str]]:
        """Operations of steps that write outside the study, and the places they write to."""
        found = []
        for step in self.steps:
            about = find_operation(step.operation)
            for p in about.settings:
                if p.role == "new" and step.settings.get(p.name):
                    found.append((about.title, str(step.settings[p.name])))
        return found

    def require_allowed(self, writing: bool, deleting: bool) -> None:
        """Raises Trouble, with a list, when steps would write outside the study or do what cannot be undone and nobody
        has allowed that; a recipe that runs another one is never allowed, as that could do anything."""
        about = [find_operation(step.operation) for step in self.steps]
        if any(one.name in RUNS for one in about):
            raise Trouble("This recipe runs another recipe, which none may do", "run that one by itself")
        written = self.writes()
        if written and not writing:
            told = _listed([f"“{name}” to {place}" for name, place in written])
            raise Trouble(f"This recipe writes outside the study: {told}", "allow writing when that is wanted")
        final = [f"“{one.title}” ({', '.join(step.pointers)})" for one, step in zip(about, self.steps) if one.final]
        if final and not deleting:
            told = _listed(final)
            raise Trouble(f"This recipe does what cannot be undone: {told}", "allow deleting when that is wanted")

    @property
    def subject(self) -> str:
        """Whose the recipe was made on."""
        return next((s.subject for s in self.slots if s.subject), "")

    @property
    def each(self) -> Slot | None:
        """The slot for each of whose things the steps are done; None when they are done once a subject."""
        return next((s for s in self.slots if s.each), None)

    @property
    def used(self) -> tuple[Slot, ...]:
        """The slots that some step needs, and the one that says for what the steps are done."""
        named = {str(where) for step in self.steps for text in step.pointers for where in _slot_named(text)}
        return tuple(s for s in self.slots if s.name in named or s.each)

    def running(self) -> Recipe:
        """As it runs: what is switched off is left out, and what it would have given is what it was given. Where a step
        can do without it, it does.

        Raises Trouble when a step needs something that only a step gives which is switched off.
        """
        numbers: dict[int, int] = {}
        for n, step in enumerate(self.steps, 1):
            if not step.off:
                numbers[n] = len(numbers) + 1

        def followed(text: str, by: int, needed: bool) -> str | None:
            found = MADE.match(text)
            if found is None:
                return text
            number, result, rest = int(found[1]), found[2], found[3]
            if number in numbers:
                return f"${numbers[number]}.{result}{rest}"
            through = self._given_to(number, result)
            if through is None and not needed:
                return None
            if through is None:
                title = find_operation(self.steps[number - 1].operation).title
                raise Trouble(
                    f"Step {by} of this recipe needs the {result} of step {number} (“{title}”), which is switched off",
                    "switch that on again, or this one off as well",
                )
            return followed(through + rest, by, needed)

        kept = []
        for n, step in enumerate(self.steps, 1):
            if not step.off:
                needed = {p.name for p in find_operation(step.operation).inputs if p.required and not p.many}
                fed = {
                    role: [one for text in given if (one := followed(text, n, role in needed)) is not None]
                    for role, given in step.inputs.items()
                }
                kept.append(replace(step, inputs={role: given for role, given in fed.items() if given}))
        slots = replace(self, steps=tuple(kept)).used
        return replace(self, slots=slots, steps=tuple(kept))

    def _given_to(self, number: int, result: str) -> str | None:
        """What a step was given that stands for one of its results when it is not done; None where nothing does."""
        step = self.steps[number - 1]
        about = find_operation(step.operation)
        given = next((r for r in about.results if r.name == result), None)
        lead = about.lead or about.on_lead
        if given is None or lead is None or given != about.results[0] or lead.thing_kind != given.kind.name:
            return None
        return next(iter(step.inputs.get(lead.name, ())), None)

    def pointed(self, change: Callable[[int], int]) -> Recipe:
        """With other numbers for steps in all pointers."""

        def moved(text: str) -> str:
            found = MADE.match(text)
            return text if found is None else f"${change(int(found[1]))}.{found[2]}{found[3]}"

        steps = [replace(s, inputs={r: [moved(t) for t in given] for r, given in s.inputs.items()}) for s in self.steps]
        return replace(self, steps=tuple(steps))

    def sound(self) -> Recipe:
        """The recipe itself; raises Trouble when a step points to a slot or a step that is not there."""
        names = {s.name for s in self.slots}
        for n, step in enumerate(self.steps, 1):
            for text in step.pointers:
                pointer = pointer_of(text)
                if pointer is None:
                    continue
                where, result, _ = pointer
                if isinstance(where, int):
                    self._require_earlier(n, where, result)
                elif where not in names:
                    raise Trouble(f"Step {n} of this recipe points to the slot “{where}”, which is not there", "add it")
        if sum(s.each for s in self.slots) > 1:
            raise Trouble("Two slots of this recipe say that the steps are done for each", "choose one of them")
        return self

    def _require_earlier(self, n: int, where: int, result: str) -> None:
        if not 1 <= where <= len(self.steps):
            raise Trouble(f"Step {n} of this recipe points to step {where}, which is not there", "point to another one")
        if where >= n:
            what = "itself" if where == n else f"step {where}, which comes later: they would wait for each other"
            raise Trouble(f"Step {n} of this recipe points to {what}", "point to an earlier one")
        named, _, which = result.rpartition(" ")
        results = {r.name for r in find_operation(self.steps[where - 1].operation).results}
        if result not in results and not (named in results and which.isdigit()):
            have = ", ".join(results)
            raise Trouble(f"Step {where} of this recipe gives no “{result}”", f"it gives {have}")


def _slot_named(text: str) -> list[str]:
    pointer = pointer_of(text)
    return [] if pointer is None or isinstance(pointer[0], int) else [pointer[0]]


def _listed(several: list[str]) -> str:
    return "; ".join(several[:5]) + ("; …" if len(several) > 5 else "")


def pointer_of(text: str) -> tuple[int | str, str, Reference] | None:
    """Where an input comes from: (number of a step, name of its result) or (name of a slot, ""), and the reference that
    holds labels and place; None for a reference to a thing itself."""
    if not text.startswith("$"):
        return None
    reference = Reference.parse(text)
    where, dot, result = reference.name[1:].partition(".")
    if dot and where.isdigit():
        return int(where), result, reference
    return reference.name[1:], "", reference
