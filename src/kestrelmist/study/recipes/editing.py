"""A recipe with one thing changed: steps added, moved, switched off, given other settings; slots. Pointers follow."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from ...core.errors import Trouble
from ...core.kind import is_edited
from ...core.operation import Operation, find_operation
from ...core.parameter import Parameter
from .recipe import MADE, Expected, Recipe, RecipeStep, Slot, pointer_of


def with_step(recipe: Recipe, name: str, at: int | None = None, settings: dict[str, Any] | None = None) -> Recipe:
    """With one more step, before the one of a number or at the end. It goes on with what comes before: what leads is
    the last thing of its kind that a step gives, else a slot; for what else it needs, slots are made.

    Raises
    ------
    Trouble
        When there is no such operation or place, or no recipe may do it.
    """
    about = find_operation(name)
    if not about.repeats:
        raise Trouble(f"“{about.title}” cannot be repeated on another subject", "do it by itself")
    at = len(recipe.steps) + 1 if at is None else at
    if not 1 <= at <= len(recipe.steps) + 1:
        raise Trouble(f"There is no place {at} among {len(recipe.steps)} steps", "count from 1")
    moved = recipe.pointed(lambda n: n if n < at else n + 1)
    slots = list(recipe.slots)
    inputs: dict[str, list[str]] = {}
    for p in about.inputs:
        if not p.required and p != about.lead:
            continue
        inputs[p.name] = [_fed(recipe, about, p, at, slots, inputs)]
    step = RecipeStep(about.name, _checked(about, settings or {}), {k: v for k, v in inputs.items() if v[0]})
    steps = (*moved.steps[: at - 1], step, *moved.steps[at - 1 :])
    return replace(moved, slots=tuple(slots), steps=steps).sound()


def _fed(
    recipe: Recipe, about: Operation, p: Parameter, at: int, slots: list[Slot], so_far: dict[str, list[str]]
) -> str:
    """The pointer for an input of a new step; slots may come."""
    kind = p.thing_kind
    if p.kind.of:  # a label map: that on what leads
        owner = next(iter(so_far.get(about.lead.name, [])), "") if about.lead is not None else ""
        drawn = _drawn(recipe, at)
        return f"{owner or drawn.partition('#')[0]}#{drawn.partition('#')[2] or 'Labels'}" if owner or drawn else ""
    used = {text for given in so_far.values() for text in given}
    if p == about.lead or not p.kind.leads:
        for n in range(at - 1, 0, -1):
            made = next((r for r in find_operation(recipe.steps[n - 1].operation).results if r.kind.name == kind), None)
            if made is not None and f"${n}.{made.name}" not in used:
                return f"${n}.{made.name}"
    free = next((s for s in slots if s.kind == kind and f"${s.name}" not in used), None)
    if free is None:
        free = Slot(_free_name(p.said.strip().capitalize() or kind, slots), kind, "*")
        slots.append(free)
    return f"${free.name}"


def _drawn(recipe: Recipe, at: int) -> str:
    """The label map that the last step before a place has drawn on."""
    for step in reversed(recipe.steps[: at - 1]):
        about = find_operation(step.operation)
        target = about.edited
        if target is not None and is_edited(target.kind.name) and step.inputs.get(target.name):
            return step.inputs[target.name][0]
    return ""


def _free_name(wanted: str, slots: list[Slot]) -> str:
    wanted = "".join(c for c in wanted if c not in "$#@/.")[:60].strip() or "Slot"
    taken = {s.name.casefold() for s in slots}
    name, n = wanted, 2
    while name.casefold() in taken:
        name, n = f"{wanted} {n}", n + 1
    return name


def _step(recipe: Recipe, number: int) -> RecipeStep:
    if not 1 <= number <= len(recipe.steps):
        raise Trouble(f"This recipe has no step {number}", f"it has {len(recipe.steps)}, counted from 1")
    return recipe.steps[number - 1]


def _checked(about: Operation, settings: dict[str, Any]) -> dict[str, Any]:
    """Settings that somebody gave, as recipes hold them; raises Trouble when one is wrong. Those that are needed may
    come later: until then the checks say so."""
    known = {p.name: p for p in about.settings}
    if all(p.name in settings for p in about.settings if p.required) or not set(settings) <= set(known):
        full = about.checked(settings)
        return about.written({name: full[name] for name in settings})
    return about.written({name: known[name].checked(value) for name, value in settings.items()})


def _with(recipe: Recipe, number: int, step: RecipeStep) -> Recipe:
    return replace(recipe, steps=(*recipe.steps[: number - 1], step, *recipe.steps[number:])).sound()


def without_step(recipe: Recipe, number: int) -> Recipe:
    """Without a step; what needed its result gets what that step was given. Raises Trouble where nothing stands for
    it."""
    step = _step(recipe, number)
    off = _with(recipe, number, replace(step, off=True))
    only = replace(off, steps=tuple(replace(s, off=n == number) for n, s in enumerate(off.steps, 1))).running()
    again = [
        replace(now, off=was.off)
        for now, was in zip(only.steps, [s for n, s in enumerate(recipe.steps, 1) if n != number])
    ]
    return replace(recipe, steps=tuple(again)).sound()


def moved(recipe: Recipe, number: int, to: int) -> Recipe:
    """With a step in another place. What goes along a row of steps goes on along it: the step is taken out of the row
    and put into it again.

    Raises
    ------
    Trouble
        When it would come before what it needs, or after what needs it.
    """
    step = _step(recipe, number)
    _step(recipe, to)
    try:
        return _reordered(recipe, number, to)
    except Trouble:
        about = find_operation(step.operation)
        lead = about.lead
        if lead is None or not about.results or about.results[0].kind.name != lead.thing_kind:
            raise
        rest = without_step(recipe, number)
        # pointers of what it needs besides, as they are without it
        aside = recipe.pointed(lambda n: n if n < number else n - 1).steps[number - 1]
    feed, result = _feed(rest, to, lead.thing_kind), about.results[0].name
    if feed is None:
        raise Trouble(f"“{about.title}” cannot be step {to}", "nothing there gives what it needs")
    again = rest.pointed(lambda n: n if n < to else n + 1)
    put = replace(aside, inputs=aside.inputs | {lead.name: [feed]})
    later = [
        replace(s, inputs={r: [_through(t, feed, f"${to}.{result}") for t in given] for r, given in s.inputs.items()})
        for s in again.steps[to - 1 :]
    ]
    return replace(again, slots=recipe.slots, steps=(*again.steps[: to - 1], put, *later)).sound()


def _feed(recipe: Recipe, to: int, kind: str) -> str | None:
    """What leads the step that stands at a place, else what the step before it gives: a row goes on from there."""
    if to <= len(recipe.steps):
        step = recipe.steps[to - 1]
        lead = find_operation(step.operation).lead
        given = step.inputs.get(lead.name, []) if lead is not None and lead.thing_kind == kind else []
        if given:
            return given[0].partition("#")[0]
    before = find_operation(recipe.steps[to - 2].operation).results if to > 1 else ()
    return next((f"${to - 1}.{r.name}" for r in before if r.kind.name == kind), None)


def _through(text: str, old: str, new: str) -> str:
    rest = text[len(old) :]
    return new + rest if text.startswith(old) and (not rest or rest[0] in "#@") else text


def _reordered(recipe: Recipe, number: int, to: int) -> Recipe:
    """With a step in another place, all else as it is; raises Trouble when what is needed would come later."""
    order = [n for n in range(1, len(recipe.steps) + 1) if n != number]
    order.insert(to - 1, number)
    place = {n: k for k, n in enumerate(order, 1)}
    again = recipe.pointed(lambda n: place[n])
    steps = tuple(again.steps[n - 1] for n in order)
    for n, one in enumerate(steps, 1):
        if any(found is not None and int(found[1]) >= n for found in map(MADE.match, one.pointers)):
            title, needs = (find_operation(name).title for name in (_step(recipe, number).operation, one.operation))
            what = f"“{title}” cannot be step {to}: “{needs}” would come before what it needs"
            raise Trouble(what, "move that one first")
    return replace(again, steps=steps).sound()


def switched(recipe: Recipe, number: int, off: bool) -> Recipe:
    """With a step switched off or on. Raises Trouble when a later one cannot do without it."""
    found = _with(recipe, number, replace(_step(recipe, number), off=off))
    found.running()
    return found


def with_settings(recipe: Recipe, number: int, settings: dict[str, Any]) -> Recipe:
    """With other settings of a step; one that is None is left to the program again. Raises Trouble when one is
    wrong."""
    step = _step(recipe, number)
    about = find_operation(step.operation)
    kept = {k: v for k, v in (step.settings | settings).items() if v is not None}
    return _with(recipe, number, replace(step, settings=_checked(about, kept)))


def with_inputs(recipe: Recipe, number: int, role: str, pointers: list[str]) -> Recipe:
    """With something else as an input of a step; nothing where the list is empty. Raises Trouble when it has no such
    input."""
    step = _step(recipe, number)
    about = find_operation(step.operation)
    p = next((p for p in about.inputs if p.name == role), None)
    if p is None:
        have = ", ".join(p.name for p in about.inputs)
        raise Trouble(f"“{about.title}” has no input called “{role}”", f"it has {have}")
    if not pointers and p.required:
        raise Trouble(f"“{about.title}” needs {p.said}", "name a slot, or what a step gives")
    if len(pointers) > 1 and not p.many:
        raise Trouble(f"“{about.title}” takes one thing as {p.said}", "name one")
    inputs = {k: v for k, v in step.inputs.items() if k != role} | ({role: pointers} if pointers else {})
    return _with(recipe, number, replace(step, inputs=inputs))


def with_slot(recipe: Recipe, slot: Slot, was: str = "") -> Recipe:
    """With a slot more, or in place of one of that name, whose pointers follow. Raises Trouble when the name is taken
    or empty."""
    if not slot.name.strip() or any(sign in slot.name for sign in "$#@/."):
        raise Trouble(f"A slot cannot be called “{slot.name}”", "use letters, digits and blanks")
    if any(s.name.casefold() == slot.name.casefold() and s.name != was for s in recipe.slots):
        raise Trouble(f"There is a slot called “{slot.name}” already", "choose another name")
    others = [replace(s, each=False) if slot.each else s for s in recipe.slots]
    if not was:
        return replace(recipe, slots=(*others, slot)).sound()
    if all(s.name != was for s in recipe.slots):
        raise Trouble(f"This recipe has no slot called “{was}”", f"it has {', '.join(s.name for s in recipe.slots)}")

    def named(text: str) -> str:
        pointer = pointer_of(text)
        if pointer is None or pointer[0] != was:
            return text
        return f"${slot.name}{text[1 + len(was) :]}"

    steps = [replace(s, inputs={r: [named(t) for t in given] for r, given in s.inputs.items()}) for s in recipe.steps]
    slots = tuple(slot if s.name == was else s for s in others)
    return replace(recipe, slots=slots, steps=tuple(steps)).sound()


def without_slot(recipe: Recipe, name: str) -> Recipe:
    """Without a slot. Raises Trouble when a step needs it."""
    for n, step in enumerate(recipe.steps, 1):
        if any((pointer_of(text) or ("",))[0] == name for text in step.pointers):
            raise Trouble(f"Step {n} needs the slot “{name}”", "give that step something else first")
    return replace(recipe, slots=tuple(s for s in recipe.slots if s.name != name)).sound()


def expecting(recipe: Recipe, expected: Expected) -> Recipe:
    """With something else that is expected of the data."""
    return replace(recipe, expected=expected)


def differences(old: Recipe, new: Recipe) -> list[str]:
    """What differs between two versions, in words, in the order of the steps."""
    told = []
    olds, news = _keyed(old), _keyed(new)
    for key, step in news.items():
        title = find_operation(step.operation).title
        before = olds.get(key)
        if before is None:
            told.append(f"{title}: new")
            continue
        if before.off != step.off:
            told.append(f"{title}: switched {'off' if step.off else 'on'}")
        for name in dict.fromkeys((*before.settings, *step.settings)):
            was, now = before.settings.get(name), step.settings.get(name)
            if was != now:
                words = name.replace("_", " ")
                told.append(
                    f"{title}: {words} {'by itself' if was is None else was} → {'by itself' if now is None else now}"
                )
        if before.inputs != step.inputs and len(old.steps) == len(new.steps):
            told.append(f"{title}: other inputs")
    told += [f"{find_operation(step.operation).title}: taken out" for key, step in olds.items() if key not in news]
    for was in old.slots:
        now = next((s for s in new.slots if s.name == was.name), None)
        if now is not None and (now.pattern, now.each) != (was.pattern, was.each):
            told.append(f"{now.name}: “{was.pattern}” → “{now.pattern}”{', each' if now.each else ''}")
    if old.expected != new.expected:
        told.append("other numbers are expected")
    return told


def _keyed(recipe: Recipe) -> dict[tuple[str, int], RecipeStep]:
    """Steps by their operation and the how manieth of it they are."""
    found: dict[tuple[str, int], RecipeStep] = {}
    for step in recipe.steps:
        n = sum(name == step.operation for name, _ in found)
        found[(step.operation, n)] = step
    return found
