"""A recipe of the study changed, one thing at a time; each change is a version and can be undone."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Annotated, Any

from ...core.errors import Trouble
from ...core.operation import find_operation, operation
from ...core.parameter import Between, Unit
from ...core.plain_yaml import plain_yaml
from ...core.table import Table
from ..journal.logbook import Step
from ..recipes import editing
from ..recipes.ready import recipe_of_record, required_record
from ..recipes.recipe import Recipe, Slot
from ..study import Study
from .recipes import GROUP, RecipeName, kept_table

Place = Annotated[int, Between(1, 1000)]


def changed(study: Study, name: str, operation_name: str, told: dict[str, Any], change: Callable[[Recipe], Recipe],
            title: str) -> Table:  # fmt: skip
    """Change a recipe and keep it as its next version; raises Trouble when it cannot be changed so."""
    record = required_record(study, name)
    recipe, _ = recipe_of_record(study, record)
    step = Step(operation_name, title, {"recipe": record.name, **told})
    return kept_table(study, record.name, change(recipe), step, note=title)


def given_as(text: str) -> dict[str, Any]:
    """Names and values out of a text like “fwhm: 1.2, how: cubic”; raises Trouble when it is none."""
    try:
        told = plain_yaml("{" + text + "}") or {}
    except ValueError as error:
        raise Trouble(
            f"“{text[:60]}” cannot be read", "write names and values as in “fwhm: 1.2, how: cubic”"
        ) from error
    if not isinstance(told, dict):
        raise Trouble(f"“{text[:60]}” cannot be read", "write names and values as in “fwhm: 1.2, how: cubic”")
    return {str(name).strip().replace(" ", "_").replace("-", "_"): value for name, value in told.items()}


@operation(
    "report", "Add a step to a recipe", name="add-step", keywords="recipe step insert", repeats=False, group=GROUP
)
def add_step(study: Study, recipe: RecipeName, step: str, *, at: Place | None = None, settings: str = "") -> Table:
    """Add a step to a recipe of the study. What it needs comes from the steps before it, else from slots, which are
    made.

    Parameters
    ----------
    recipe : text
        One of the study, by its name.
    step : text
        The operation, by the name of its command.
    at : whole number
        Its place among the steps; at the end when left out.
    settings : text
        As “fwhm: 1.2, how: cubic”; the usual ones where nothing is said.

    Raises
    ------
    Trouble
        When there is no such recipe, operation, place or setting.
    """
    about, given = find_operation(step.strip()), given_as(settings)
    told = {"step": about.name, "at": at, "settings": settings}
    return changed(study, recipe, "add-step", told, lambda r: editing.with_step(r, about.name, at, given),
                   f"Add “{about.title}”")  # fmt: skip


@operation(
    "report",
    "Change a step of a recipe",
    name="change-step",
    keywords="recipe step settings",
    repeats=False,
    group=GROUP,
)
def change_step(study: Study, recipe: RecipeName, number: Place, *, settings: str = "", inputs: str = "") -> Table:
    """Give a step of a recipe of the study other settings, or other inputs.

    Parameters
    ----------
    recipe : text
        One of the study, by its name.
    number : whole number
        Which step, from 1 on.
    settings : text
        As “fwhm: 1.2”; a setting without a value is left to the program again, as “fwhm:”.
    inputs : text
        As “mask: $2.image#Brain”: a slot behind $, or what a step gives.

    Raises
    ------
    Trouble
        When there is no such recipe, step, setting or input.
    """
    given, fed = given_as(settings), given_as(inputs)

    def change(now: Recipe) -> Recipe:
        found = editing.with_settings(now, number, given) if given else now
        for role, value in fed.items():
            several = value if isinstance(value, list) else [] if value is None else [value]
            found = editing.with_inputs(found, number, role, [str(one) for one in several])
        return found

    told = {"number": number, "settings": settings, "inputs": inputs}
    return changed(study, recipe, "change-step", told, change, f"Change step {number}")


@operation("report", "Move a step of a recipe", name="move-step", keywords="recipe reorder", repeats=False, group=GROUP)
def move_step(study: Study, recipe: RecipeName, number: Place, to: Place) -> Table:
    """Put a step of a recipe of the study in another place; what goes along the row of steps goes on along it.

    Parameters
    ----------
    recipe : text
        One of the study, by its name.
    number : whole number
        Which step, from 1 on.
    to : whole number
        Its new place.

    Raises
    ------
    Trouble
        When it would come before what it needs, or after what needs it.
    """
    return changed(study, recipe, "move-step", {"number": number, "to": to}, lambda r: editing.moved(r, number, to),
                   f"Move step {number} to {to}")  # fmt: skip


@operation(
    "report",
    "Switch a step of a recipe",
    name="switch-step",
    keywords="recipe step on off skip disable",
    repeats=False,
    group=GROUP,
)
def switch_step(study: Study, recipe: RecipeName, number: Place, *, on: bool = False) -> Table:
    """Switch a step of a recipe of the study off, or on again; what comes after it gets what it was given.

    Parameters
    ----------
    recipe : text
        One of the study, by its name.
    number : whole number
        Which step, from 1 on.
    on : yes or no
        Whether it is done.

    Raises
    ------
    Trouble
        When a later step cannot do without it.
    """
    told, title = {"number": number, "on": on}, f"Switch step {number} {'on' if on else 'off'}"
    return changed(study, recipe, "switch-step", told, lambda r: editing.switched(r, number, not on), title)


@operation(
    "report", "Take a step out of a recipe", name="drop-step", keywords="recipe remove", repeats=False, group=GROUP
)
def drop_step(study: Study, recipe: RecipeName, number: Place) -> Table:
    """Take a step out of a recipe of the study; what comes after it gets what it was given.

    Parameters
    ----------
    recipe : text
        One of the study, by its name.
    number : whole number
        Which step, from 1 on.

    Raises
    ------
    Trouble
        When a later step cannot do without it.
    """
    return changed(study, recipe, "drop-step", {"number": number}, lambda r: editing.without_step(r, number),
                   f"Take step {number} out")  # fmt: skip


@operation(
    "report",
    "Change a slot of a recipe",
    name="change-slot",
    keywords="recipe slot pattern images runs sessions role",
    repeats=False,
    group=GROUP,
    called={"slot": "Slot", "pattern": "Named like", "name": "Call it", "of": "Always of", "each": "For each"},
)
def change_slot(
    study: Study,
    recipe: RecipeName,
    slot: str,
    *,
    pattern: str | None = None,
    kind: str = "image",
    name: str = "",
    of: str | None = None,
    each: bool | None = None,
) -> Table:
    """Say which things of a subject fill a slot of a recipe of the study; one that is not there is added.

    Parameters
    ----------
    recipe : text
        One of the study, by its name.
    slot : text
        Its name.
    pattern : text
        The name of the things; * stands for anything, {subject} for the subject's own part.
    kind : text
        Of a new slot.
    name : text
        Another name for it.
    of : text
        The subject whose it always is, as of a standard space.
    each : yes or no
        Do the steps for each that fits, as for runs and visits.

    Raises
    ------
    Trouble
        When there is no such recipe, or the name is taken.
    """

    def change(now: Recipe) -> Recipe:
        before = next((s for s in now.slots if s.name.casefold() == slot.strip().casefold()), None)
        made = before or Slot(name or slot.strip(), kind, "*")
        made = replace(
            made,
            name=name.strip() or made.name,
            pattern=made.pattern if pattern is None else pattern,
            subject=made.subject if of is None else of,
            always=made.always if of is None else bool(of.strip()),
            each=made.each if each is None else each,
        )
        return editing.with_slot(now, made, before.name if before is not None else "")

    told = {"slot": slot, "pattern": pattern, "name": name, "of": of, "each": each}
    return changed(study, recipe, "change-slot", told, change, f"Change the slot “{slot.strip()}”")


@operation(
    "report", "Take a slot out of a recipe", name="drop-slot", keywords="recipe slot remove", repeats=False, group=GROUP
)
def drop_slot(study: Study, recipe: RecipeName, slot: str) -> Table:
    """Take a slot that no step needs out of a recipe of the study.

    Parameters
    ----------
    recipe : text
        One of the study, by its name.
    slot : text
        Its name.

    Raises
    ------
    Trouble
        When a step needs it.
    """
    return changed(study, recipe, "drop-slot", {"slot": slot}, lambda r: editing.without_slot(r, slot.strip()),
                   f"Take the slot “{slot.strip()}” out")  # fmt: skip


@operation(
    "report",
    "Say what a recipe expects",
    name="expect",
    keywords="recipe volumes repetition time smallest structure expected",
    repeats=False,
    group=GROUP,
    called={"structure": "Smallest structure"},
)
def expect(
    study: Study,
    recipe: RecipeName,
    *,
    volumes: Annotated[int | None, Between(1, 1_000_000)] = None,
    repetition_time: Annotated[float | None, Unit("s"), Between(1e-9, 1e6)] = None,
    structure: Annotated[float | None, Unit("mm"), Between(1e-9, 1e6)] = None,
) -> Table:
    """Say what the task expects of every series, and how large what one looks for is: the checks before a run go by
    that. What is left out is not expected.

    Parameters
    ----------
    recipe : text
        One of the study, by its name.
    volumes : whole number
        Of each series.
    repetition_time : s
        Between volumes.
    structure : mm
        Smallest structure of interest; nothing should be smoothed wider.

    Raises
    ------
    Trouble
        When there is no such recipe.
    """
    from ..recipes.recipe import Expected

    told = {"volumes": volumes, "repetition_time": repetition_time, "structure": structure}
    return changed(study, recipe, "expect", told,
                   lambda r: editing.expecting(r, Expected(volumes, repetition_time, structure)),
                   "Say what is expected")  # fmt: skip
