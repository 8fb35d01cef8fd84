"""Recipes: a part of the logbook's graph, with what comes from outside turned into named slots.

A recipe is YAML. Each slot has a kind and the name by which it is found within the subject; each step names its inputs
by slots (`$image 1`), by results of earlier steps (`$2.image`), or by references to things that stay the same for every
subject. `#labels` behind a slot or a result is a label map on that image, `@3` one volume of a series.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from ..core.errors import Trouble
from ..core.kind import is_edited, owner_kind
from ..core.operation import find_operation, operation_called
from ..core.reference import Reference, quoted
from ..core.safe_write import written_whole
from .journal.logbook import BY_HAND, Step, Thing
from .slot_pattern import pattern_of

FORM = 2
"""Number of the form in which recipes are written; older ones are read."""
MOST = 1 << 22
"""Bytes of a recipe; what is larger is none."""


@dataclass(frozen=True)
class Slot:
    """Something that comes from outside: its kind, and the name by which it is found within a subject (see
    `slot_pattern`). `subject` is whose it was when the recipe was made."""

    name: str
    kind: str
    pattern: str
    subject: str = ""


@dataclass(frozen=True)
class RecipeStep:
    """An operation, its settings, and where each of its inputs comes from."""

    operation: str
    settings: dict[str, Any] = field(default_factory=dict)
    inputs: dict[str, list[str]] = field(default_factory=dict)


@dataclass(frozen=True)
class Recipe:
    """Steps that can be done again. `by_hand` is what a hand has done, which no recipe repeats; for people to read."""

    slots: tuple[Slot, ...] = ()
    steps: tuple[RecipeStep, ...] = ()
    by_hand: tuple[str, ...] = ()

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
        if any(one.name == "recipe" for one in about):
            raise Trouble("This recipe runs another recipe, which none may do", "run that one by itself")
        written = self.writes()
        if written and not writing:
            told = _listed([f"“{name}” to {place}" for name, place in written])
            raise Trouble(f"This recipe writes outside the study: {told}", "allow writing when that is wanted")
        final = [
            f"“{one.title}” ({', '.join(text for several in step.inputs.values() for text in several)})"
            for one, step in zip(about, self.steps)
            if one.final
        ]
        if final and not deleting:
            told = _listed(final)
            raise Trouble(f"This recipe does what cannot be undone: {told}", "allow deleting when that is wanted")

    @property
    def subject(self) -> str:
        """Whose the recipe was made on."""
        return next((s.subject for s in self.slots if s.subject), "")


def _listed(several: list[str]) -> str:
    return "; ".join(several[:5]) + ("; …" if len(several) > 5 else "")


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


def as_yaml(recipe: Recipe) -> str:
    """A recipe as text. What a hand has drawn stands as a comment."""
    import yaml

    note = "".join(f"# {line}\n" for line in ("Done by hand, not repeated by this recipe:", *recipe.by_hand))
    slots = {s.name: {"kind": s.kind, "name": s.pattern, "subject": s.subject} for s in recipe.slots}
    steps = []
    for step in recipe.steps:
        told: dict[str, Any] = {"operation": step.operation}
        if step.inputs:
            told["inputs"] = {role: given[0] if len(given) == 1 else given for role, given in step.inputs.items()}
        steps.append(told | ({"settings": step.settings} if step.settings else {}))
    text = yaml.safe_dump({"recipe": FORM, "slots": slots, "steps": steps}, sort_keys=False, allow_unicode=True)
    return (note if recipe.by_hand else "") + text


def write_recipe(path: Path, recipe: Recipe) -> None:
    """Write a recipe as YAML; raises Trouble when the place cannot be written."""
    with written_whole(path) as stream:
        stream.write(as_yaml(recipe).encode())


def read_recipe(path: str | Path) -> Recipe:
    """The recipe of a file.

    Raises
    ------
    Trouble
        When there is none, it is not YAML of the right form, or it names an unknown operation or slot.
    """
    import yaml

    path = Path(path)
    try:
        if path.stat().st_size > MOST:
            raise Trouble("This file is too large for a recipe", "copy one from the logbook", path)
        content = yaml.safe_load(path.read_text(encoding="utf-8"))
    except FileNotFoundError:
        raise Trouble("This recipe does not exist", "check the name", path) from None
    except (yaml.YAMLError, UnicodeDecodeError, OSError, RecursionError, ValueError) as error:
        raise Trouble("This recipe cannot be read", "copy it from the logbook again", path) from error
    try:
        return recipe_from(content)
    except Trouble as trouble:
        raise Trouble(trouble.what, trouble.do, path) from None


def recipe_from(content: Any) -> Recipe:
    """The recipe that plain data holds; raises Trouble when it is none."""
    if not isinstance(content, dict) or content.get("recipe") not in (1, FORM):
        raise Trouble("This file is not a recipe", "copy one from the logbook")
    if not isinstance(content.get("steps"), list) or not isinstance(content.get("slots", {}), dict):
        raise Trouble("This file is not a recipe", "copy one from the logbook")
    slots = []
    for name, facts in content.get("slots", {}).items():
        if not isinstance(facts, dict) or not all(isinstance(facts.get(k), str) for k in ("kind", "name")):
            raise Trouble(f"The slot “{name}” of this recipe is not right", "give it a kind and a name")
        slots.append(Slot(str(name), facts["kind"], facts["name"], str(facts.get("subject") or "")))
    steps = [_step_from(n, facts) for n, facts in enumerate(content["steps"], 1)]
    recipe = Recipe(tuple(slots), tuple(steps))
    return _from_older(recipe) if content["recipe"] == 1 else _sound(recipe)


def _step_from(n: int, facts: Any) -> RecipeStep:
    if not isinstance(facts, dict) or not isinstance(facts.get("operation"), str):
        raise Trouble(f"Step {n} of this recipe is not right", "give it an operation, inputs and settings")
    settings, inputs = facts.get("settings") or {}, facts.get("inputs") or {}
    if not isinstance(settings, dict) or not isinstance(inputs, dict):
        raise Trouble(f"Step {n} of this recipe is not right", "write inputs and settings as name: value")
    find_operation(facts["operation"])
    told = {}
    for role, given in inputs.items():
        several = given if isinstance(given, list) else [given]
        if not all(isinstance(one, (str, int, float)) for one in several):
            raise Trouble(f"An input of step {n} of this recipe is not right", "write a slot, a result or a reference")
        told[str(role)] = [str(one) for one in several]
    return RecipeStep(facts["operation"], {str(k): v for k, v in settings.items()}, told)


def _from_older(recipe: Recipe) -> Recipe:
    """The first form named images without saying where they come from: each name is a slot.

    Raises Trouble when it tells of several subjects, since one name may then mean an image of each.
    """
    _require_one_subject(recipe)
    slots: dict[str, Slot] = {}
    steps = []
    for step in recipe.steps:
        inputs = {}
        for role, (name, *_) in step.inputs.items():
            known = next((p for p in find_operation(step.operation).inputs if p.name == role), None)
            if known is not None and known.kind.leads:
                kind = known.kind.name
                slot = slots.setdefault(name, Slot(f"{kind} {len(slots) + 1}", kind, name))
                inputs[role] = [f"${slot.name}"]
        steps.append(RecipeStep(step.operation, step.settings, inputs))
    return Recipe(tuple(slots.values()), tuple(steps))


def _require_one_subject(recipe: Recipe) -> None:
    gathered = [step.settings for step in recipe.steps if step.operation == "gather"]
    subjects = list(dict.fromkeys(str(g["subject"]) for g in gathered if g.get("subject")))
    told = [repr((s.operation, s.settings, s.inputs)) for s in recipe.steps if s.inputs]
    if len(subjects) > 1 or (len(gathered) > 1 and len(set(told)) < len(told)):
        whose = f" ({', '.join(subjects)})" if subjects else ""
        raise Trouble(
            f"This recipe is of an older form and of several subjects{whose}, and does not say whose image a step is"
            " for",
            "copy it anew from the logbook of its study, which knows",
        )


def _sound(recipe: Recipe) -> Recipe:
    """The recipe itself; raises Trouble when a step points to a slot or a step that is not there."""
    names = {s.name for s in recipe.slots}
    for n, step in enumerate(recipe.steps, 1):
        for given in step.inputs.values():
            for text in given:
                pointer = pointer_of(text)
                if pointer is None:
                    continue
                where, result, _ = pointer
                if isinstance(where, int):
                    if not 1 <= where < n:
                        raise Trouble(f"Step {n} of this recipe points to step {where}", "point to an earlier one")
                    named, _, which = result.rpartition(" ")
                    results = {r.name for r in find_operation(recipe.steps[where - 1].operation).results}
                    if result not in results and not (named in results and which.isdigit()):
                        have = ", ".join(results)
                        raise Trouble(f"Step {where} of this recipe gives no “{result}”", f"it gives {have}")
                elif where not in names:
                    raise Trouble(f"Step {n} of this recipe points to the slot “{where}”, which is not there", "add it")
    return recipe


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
