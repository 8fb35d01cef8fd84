"""Recipes by name: those that come with the program, those a study keeps, and files."""

from __future__ import annotations

from dataclasses import replace
from importlib.resources import files
from pathlib import Path
from typing import TYPE_CHECKING

from ...core.errors import Trouble
from ...core.kept_recipe import KeptRecipe, RecipeVersion
from ..catalogue import now
from ..items import Record
from ..journal.changes import ItemChange
from ..journal.logbook import Step, person
from ..stores.recipes import RECIPES
from .recipe import Recipe
from .text import as_yaml, read_recipe, recipe_of_text

if TYPE_CHECKING:
    from ..study import Study

ENDINGS = (".yaml", ".yml", ".json")


def ready_recipes() -> dict[str, Recipe]:
    """Those that come with the program, by their titles, in the order in which people go."""
    found = []
    for one in files("kestrelmist.study.recipes.ready_made").iterdir():
        if one.name.endswith(".yaml"):
            found.append((one.name, recipe_of_text(one.read_text(encoding="utf-8"))))
    return {recipe.title: recipe for _, recipe in sorted(found)}


def kept(study: Study) -> list[Record]:
    """The recipes of a study, in the order they came."""
    return sorted(study.items.of_kind(RECIPES.kind), key=lambda r: r.id)


def kept_record(study: Study, name: str) -> Record | None:
    """The recipe of a study with a name."""
    wanted = name.strip().casefold()
    return next((r for r in kept(study) if r.name.casefold() == wanted), None)


def required_record(study: Study, name: str) -> Record:
    """The recipe of a study with a name; raises Trouble when there is none."""
    record = kept_record(study, name)
    if record is None:
        names = ", ".join(f"“{r.name}”" for r in kept(study)) or "none yet: take or make one first"
        raise Trouble(f"There is no recipe “{name}” in this study", f"there is {names}", study.folder)
    return record


def recipe_of_record(study: Study, record: Record) -> tuple[Recipe, KeptRecipe]:
    """The version in force of a recipe of a study, and all versions."""
    versions = study.thing(record.id)
    try:
        recipe = recipe_of_text(versions.text)
    except Trouble as trouble:
        raise Trouble(f"“{record.name}” cannot be used: {trouble.what}", trouble.do) from None
    return replace(recipe, title=record.name), versions


def recipe_called(study: Study | None, text: str) -> tuple[Recipe, str, int]:
    """A recipe by what names it: one of the study, a file, or one that comes with the program. Also its name and
    version in the study; "" and 0 of others.

    Raises
    ------
    Trouble
        When there is none, or it cannot be read.
    """
    record = kept_record(study, text) if study is not None else None
    if record is not None and study is not None:
        recipe, versions = recipe_of_record(study, record)
        return recipe, record.name, versions.number
    if text.lower().endswith(ENDINGS) or Path(text).is_file():
        return read_recipe(text), "", 0
    ready = ready_recipes()
    found = next((one for title, one in ready.items() if title.casefold() == text.strip().casefold()), None)
    if found is None:
        have = [r.name for r in kept(study)] if study is not None else []
        names = ", ".join(f"“{one}”" for one in dict.fromkeys([*have, *ready]))
        raise Trouble(f"There is no recipe “{text}”", f"name a file in YAML, or one of {names}")
    return found, "", 0


def keep_recipe(study: Study, name: str, recipe: Recipe, step: Step, note: str = "") -> Record:
    """Keep a recipe under a name, as a new version where there is one of that name, as one step that can be undone.

    Raises Trouble when the study cannot be written.
    """
    record = kept_record(study, name)
    version = RecipeVersion(as_yaml(replace(recipe, title=name)), now(), person(), note)
    title = step.title
    if record is None:
        fresh = KeptRecipe((version,), name)
        row = Record(0, RECIPES.kind, "", name, None, None, fresh.content_hash(), fresh.as_dict(), removed=True)
        with study.catalogue.change() as db:
            key = study.items.insert(db, row)
        study.history.do([ItemChange(key, title, {"removed": True}, {"removed": False})], step, title)
    else:
        key = record.id
        before = KeptRecipe.from_dict(record.body, record.name)
        after = before.with_version(version)
        if after is not before:
            old, new = ({"body.versions": one.as_dict()["versions"]} for one in (before, after))
            study.history.do([ItemChange(key, title, old, new)], step, title)
    made = study.items.get(key)
    assert made is not None
    return made
