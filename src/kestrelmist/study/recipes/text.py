"""Recipes as YAML: written, read and brought up from older forms. What is read may come from anybody."""

from __future__ import annotations

from dataclasses import asdict, replace
from pathlib import Path
from typing import Any

from ...core.errors import Trouble
from ...core.operation import find_operation, operation_called
from ...core.plain_yaml import Refers, plain_yaml
from ...core.safe_write import written_whole
from .recipe import Expected, Recipe, RecipeStep, Slot

FORM = 3
"""Number of the form in which recipes are written; older ones are read."""
MOST = 1 << 22
"""Bytes of a recipe; what is larger is none."""
MOST_STEPS = 1000
LONGEST = 300
"""Letters of a title."""


def as_yaml(recipe: Recipe) -> str:
    """A recipe as text. What a hand has drawn stands as a comment."""
    import yaml

    class Plain(yaml.SafeDumper):
        """Without references from one place to another."""

        def ignore_aliases(self, data: Any) -> bool:
            return True

    lines = [one.replace("\n", " ").replace("\r", " ") for one in recipe.by_hand]
    note = "".join(f"# {line}\n" for line in ("Done by hand, not repeated by this recipe:", *lines))
    text = yaml.dump(as_dict(recipe), Dumper=Plain, sort_keys=False, allow_unicode=True)
    return (note if recipe.by_hand else "") + text


def as_dict(recipe: Recipe) -> dict[str, Any]:
    """A recipe as plain data."""
    told: dict[str, Any] = {"recipe": FORM}
    told |= {name: text for name, text in (("title", recipe.title), ("note", recipe.note)) if text}
    expected = {name: value for name, value in asdict(recipe.expected).items() if value is not None}
    if expected:
        told["expected"] = expected
    slots = {}
    for s in recipe.slots:
        more = {name: True for name in ("each", "always") if getattr(s, name)}
        slots[s.name] = {"kind": s.kind, "name": s.pattern, "subject": s.subject} | more
    steps = []
    for step in recipe.steps:
        one: dict[str, Any] = {"operation": step.operation}
        if step.inputs:
            one["inputs"] = {role: given[0] if len(given) == 1 else given for role, given in step.inputs.items()}
        steps.append(
            one | ({"settings": step.settings} if step.settings else {}) | ({"skip": True} if step.off else {})
        )
    return told | {"slots": slots, "steps": steps}


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
    path = Path(path)
    try:
        if path.stat().st_size > MOST:
            raise Trouble("This file is too large for a recipe", "copy one from the logbook", path)
        text = path.read_text(encoding="utf-8")
    except FileNotFoundError:
        raise Trouble("This recipe does not exist", "check the name", path) from None
    except (UnicodeDecodeError, OSError, ValueError) as error:
        raise Trouble("This recipe cannot be read", "copy it from the logbook again", path) from error
    try:
        return recipe_of_text(text)
    except Trouble as trouble:
        raise Trouble(trouble.what, trouble.do, path) from None


def recipe_of_text(text: str) -> Recipe:
    """The recipe that a text holds; raises Trouble when it is none."""
    try:
        content = plain_yaml(text)
    except Refers:
        what = "This recipe refers from one place of it to another, which none may do"
        raise Trouble(what, "write it out") from None
    except ValueError as error:
        raise Trouble("This recipe cannot be read", "copy it from the logbook again") from error
    return recipe_from(content)


def recipe_from(content: Any) -> Recipe:
    """The recipe that plain data holds; raises Trouble when it is none."""
    none = Trouble("This file is not a recipe", "copy one from the logbook")
    form = content.get("recipe") if isinstance(content, dict) else None
    if isinstance(form, bool) or not isinstance(form, int) or form < 1:
        raise none
    if form > FORM:
        raise Trouble(f"This recipe was written by a newer version (form {form})", "open it with that version")
    if not isinstance(content.get("steps"), list) or not isinstance(content.get("slots", {}), dict):
        raise none
    if len(content["steps"]) > MOST_STEPS or len(content.get("slots", {})) > MOST_STEPS:
        raise Trouble(f"This recipe has more than {MOST_STEPS} steps or slots", "share it out")
    slots = [_slot_from(name, facts) for name, facts in content.get("slots", {}).items()]
    steps = [_step_from(n, facts) for n, facts in enumerate(content["steps"], 1)]
    recipe = Recipe(tuple(slots), tuple(steps))
    if form == 1:
        return _from_older(recipe)
    title, note = (str(content.get(key) or "") for key in ("title", "note"))
    recipe = replace(recipe, title=title[:LONGEST], note=note, expected=_expected_from(content.get("expected")))
    return recipe.sound()


def _slot_from(name: Any, facts: Any) -> Slot:
    if not isinstance(facts, dict) or not all(isinstance(facts.get(k), str) for k in ("kind", "name")):
        raise Trouble(f"The slot “{name}” of this recipe is not right", "give it a kind and a name")
    if any(sign in str(name) for sign in "$#@/.") or not str(name).strip():
        raise Trouble(f"A slot of this recipe cannot be called “{name}”", "use letters, digits and blanks")
    each, always = (facts.get(key) is True for key in ("each", "always"))
    return Slot(str(name), facts["kind"], facts["name"], str(facts.get("subject") or ""), each, always)


def _step_from(n: int, facts: Any) -> RecipeStep:
    if not isinstance(facts, dict) or not isinstance(facts.get("operation"), str):
        raise Trouble(f"Step {n} of this recipe is not right", "give it an operation, inputs and settings")
    settings, inputs = facts.get("settings") or {}, facts.get("inputs") or {}
    if not isinstance(settings, dict) or not isinstance(inputs, dict):
        raise Trouble(f"Step {n} of this recipe is not right", "write inputs and settings as name: value")
    if operation_called(facts["operation"]) is None:
        what = f"Step {n} of this recipe asks for “{facts['operation']}”, which this version does not know"
        raise Trouble(what, "take the step out, or use the version that wrote it")
    told = {}
    for role, given in inputs.items():
        several = given if isinstance(given, list) else [given]
        if not all(isinstance(one, (str, int, float)) for one in several):
            raise Trouble(f"An input of step {n} of this recipe is not right", "write a slot, a result or a reference")
        told[str(role)] = [str(one) for one in several]
    return RecipeStep(facts["operation"], {str(k): v for k, v in settings.items()}, told, facts.get("skip") is True)


def _expected_from(facts: Any) -> Expected:
    if facts is None:
        return Expected()
    known = {"volumes", "repetition_time", "structure"}
    if not isinstance(facts, dict) or not set(facts) <= known:
        raise Trouble("What this recipe expects is not right", f"it may say {', '.join(sorted(known))}")
    for name, value in facts.items():
        if value is not None and (
            isinstance(value, bool) or not isinstance(value, (int, float)) or not 0 < value < 1e9
        ):
            raise Trouble(f"What this recipe expects as {name} is not right", "give a number above 0")
    volumes = facts.get("volumes")
    return Expected(None if volumes is None else round(volumes), facts.get("repetition_time"), facts.get("structure"))


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
