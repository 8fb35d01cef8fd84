"""The logbook as a table and as a recipe; recipes that a study keeps."""

from __future__ import annotations

import json
from typing import Annotated

from ...core.errors import Trouble
from ...core.names import plain_name
from ...core.operation import find_operation, operation
from ...core.parameter import NewPath, Role
from ...core.safe_write import require_new, written_whole
from ...core.table import Column, Table
from .. import kinds  # noqa: F401  (makes the kinds known)
from ..journal.logbook import Step
from ..recipes.editing import differences
from ..recipes.of_logbook import recipe_of
from ..recipes.ready import keep_recipe, kept, kept_record, ready_recipes, recipe_called, recipe_of_record
from ..recipes.recipe import Recipe
from ..recipes.schema import schema
from ..recipes.text import recipe_of_text, write_recipe
from ..study import Study

RecipeName = Annotated[str, Role("name of recipe")]
"""A recipe of the study, of the program, or a file."""
GROUP = "Recipes"


@operation(
    "report",
    "Logbook",
    name="logbook",
    keywords="history steps recipe yaml export provenance log",
    repeats=False,
    group="Steps",
)
def logbook(study: Study, to: NewPath | None = None, *, subject: str = "", with_files: bool = False) -> Table:
    """List every step of the study; with a file name, write those that can be repeated as a recipe.

    Parameters
    ----------
    to : path
        File for the recipe, in YAML.
    subject : text
        Only the steps of this subject.
    with_files : yes or no
        Have the recipe take in the same files again, for another study. Without it, what came from files is looked for
        within the subject that the recipe runs on.

    Raises
    ------
    Trouble
        When there is no step of that subject, or the recipe cannot be written.
    """
    steps = _steps_of(study, subject)
    if to is not None:
        write_recipe(to, recipe_of(steps, with_files=with_files))
    columns = [
        Column("when"),
        Column("who"),
        Column("operation"),
        Column("step"),
        Column("undone"),
        Column("took", "s", 1),
    ]
    rows = [
        (s.made[:16].replace("T", " "), s.who, s.operation, s.sentence, "yes" if s.undone else "", s.seconds)
        for s in steps
    ]
    return Table("Logbook", columns, rows)


def _steps_of(study: Study, subject: str) -> list[Step]:
    steps = [s for s in study.logbook.entries() if not subject or s.subject.casefold() == subject.casefold()]
    if subject and not steps:
        raise Trouble(f"There is no step of “{subject}” in the logbook", "check the name", study.folder)
    return steps


@operation(
    "report",
    "Make a recipe of the logbook",
    name="make-recipe",
    keywords="recipe protocol record steps",
    repeats=False,
    group=GROUP,
    called={"subject": "Steps of", "with_files": "Files as well"},
)
def make_recipe(study: Study, name: str, *, subject: str = "", with_files: bool = False) -> Table:
    """Keep the steps of the logbook as a recipe of the study, to be changed and run on others.

    Parameters
    ----------
    name : text
        What the recipe is to be called. One of that name gets a new version.
    subject : text
        Only the steps of this subject.
    with_files : yes or no
        Have it take in the same files again; see “Logbook”.

    Raises
    ------
    Trouble
        When no step can be repeated.
    """
    made = recipe_of(_steps_of(study, subject), with_files=with_files)
    if not made.steps:
        raise Trouble("The logbook holds no step that can be repeated", "do one first", study.folder)
    return kept_table(study, name, made, Step("make-recipe", "Make a recipe", {"name": name, "subject": subject}))


@operation(
    "report",
    "Begin a recipe",
    name="begin-recipe",
    keywords="new empty recipe",
    repeats=False,
    group=GROUP,
)
def begin_recipe(study: Study, name: str) -> Table:
    """Keep an empty recipe, to which steps are added.

    Parameters
    ----------
    name : text
        What it is to be called.

    Raises
    ------
    Trouble
        When there is one of that name.
    """
    if kept_record(study, name) is not None:
        raise Trouble(f"There is a recipe “{name.strip()}” already", "choose another name", study.folder)
    return kept_table(study, name, Recipe(), Step("begin-recipe", "Begin a recipe", {"name": name}))


@operation(
    "report",
    "Take a recipe",
    name="take-recipe",
    keywords="open import recipe yaml file ready template functional bone sections",
    repeats=False,
    group=GROUP,
    called={"recipe": "Recipe", "name": "Call it"},
)
def take_recipe(study: Study, recipe: RecipeName, *, name: str = "") -> Table:
    """Take a recipe that comes with the program, or one from a file, into the study, where it can be changed. One of
    the same name gets a new version.

    Parameters
    ----------
    recipe : text
        A title of “List recipes”, or a file in YAML.
    name : text
        What it is called in the study; its own title when left out.

    Raises
    ------
    Trouble
        When there is none, or it cannot be read.
    """
    found, _, _ = recipe_called(study, recipe)
    wanted = name or found.title or recipe.rpartition("/")[2].rpartition(".")[0]
    return kept_table(study, wanted, found, Step("take-recipe", "Take a recipe", {"recipe": recipe, "name": name}))


def kept_table(study: Study, name: str, recipe: Recipe, step: Step, note: str = "") -> Table:
    """Keep a recipe, and give what it is then; see `keep_recipe`."""
    wanted = plain_name(name)
    if not wanted:
        raise Trouble("A recipe needs a name", "type one")
    record = keep_recipe(study, wanted, recipe, step, note)
    return table_of_recipe(recipe, record.name, study.thing(record.id).number)


def table_of_recipe(recipe: Recipe, name: str, version: int = 0) -> Table:
    """Slots and steps of a recipe, a row each."""
    told = f", version {version}" if version else ""
    columns = [
        Column("number"),
        Column("step"),
        Column("operation"),
        Column("inputs"),
        Column("settings"),
        Column("is"),
    ]
    table = Table(f"Recipe “{name}”{told}", columns)
    for slot in recipe.slots:
        each = "for each" if slot.each else "comes in"
        table.rows.append((None, slot.name, slot.kind, slot.pattern, slot.subject, each))
    for n, step in enumerate(recipe.steps, 1):
        about = find_operation(step.operation)
        inputs = ", ".join(f"{role} {' '.join(given)}" for role, given in step.inputs.items())
        settings = ", ".join(f"{k.replace('_', ' ')} {v}" for k, v in step.settings.items())
        table.rows.append((n, about.title, about.name, inputs, settings, "switched off" if step.off else ""))
    return table


@operation(
    "report",
    "List recipes",
    name="list-recipes",
    keywords="recipes ready versions history differences",
    repeats=False,
    group=GROUP,
    called={"recipe": "Versions of"},
)
def list_recipes(study: Study, *, recipe: str = "") -> Table:
    """List the recipes of the study and those that come with the program; of one of the study, its versions and what
    was changed with each.

    Parameters
    ----------
    recipe : text
        The one whose versions are listed.

    Raises
    ------
    Trouble
        When there is none of that name.
    """
    if recipe:
        from ..recipes.ready import required_record

        record = required_record(study, recipe)
        columns = [Column("version"), Column("when"), Column("who"), Column("changed"), Column("note")]
        table = Table(f"Versions of “{record.name}”", columns)
        before = None
        for n, one in enumerate(study.thing(record.id).versions, 1):
            now = recipe_of_text(one.text)
            changed = "; ".join(differences(before, now)) if before is not None else f"{len(now.steps)} steps"
            table.rows.append((n, one.made[:16].replace("T", " "), one.who, changed, one.note))
            before = now
        return table
    columns = [Column("recipe"), Column("version"), Column("steps"), Column("from"), Column("note")]
    table = Table("Recipes", columns)
    for record in kept(study):
        found, versions = recipe_of_record(study, record)
        table.rows.append((record.name, versions.number, len(found.steps), "this study", found.note))
    for title, found in ready_recipes().items():
        table.rows.append((title, None, len(found.steps), "the program", found.note))
    return table


@operation(
    "report",
    "Show a recipe",
    name="show-recipe",
    keywords="recipe steps slots print",
    repeats=False,
    group=GROUP,
)
def show_recipe(study: Study, recipe: RecipeName) -> Table:
    """List the slots and steps of a recipe, with what flows between them.

    Parameters
    ----------
    recipe : text
        One of the study, of the program, or a file.

    Raises
    ------
    Trouble
        When there is none, or it cannot be read.
    """
    found, name, version = recipe_called(study, recipe)
    return table_of_recipe(found, name or found.title or recipe, version)


@operation(
    "report",
    "Save a recipe",
    name="save-recipe",
    keywords="export share recipe yaml file",
    repeats=False,
    group=GROUP,
)
def save_recipe(study: Study, recipe: RecipeName, to: NewPath, *, replace_file: bool = False) -> Table:
    """Write a recipe as YAML, to be shared.

    Parameters
    ----------
    recipe : text
        One of the study, or of the program.
    to : path
        The file, which ends in .yaml.
    replace_file : yes or no
        Take the place of a file of that name.

    Raises
    ------
    Trouble
        When there is none, or the file is there and is not to be replaced.
    """
    found, name, version = recipe_called(study, recipe)
    if to.suffix.lower() not in (".yaml", ".yml"):
        raise Trouble("A recipe is written as .yaml", "end the name so", to)
    require_new(to, replace_file)
    write_recipe(to, found)
    return table_of_recipe(found, name or found.title, version)


@operation(
    "report",
    "Schema of recipes",
    name="recipe-schema",
    keywords="recipe yaml json schema editor",
    repeats=False,
    group=GROUP,
)
def recipe_schema(to: NewPath) -> Table:
    """Write the form of recipes as a JSON schema, by which an editor of text tells what may be written where.

    Parameters
    ----------
    to : path
        A new file that ends in .json.

    Raises
    ------
    Trouble
        When the file is there already.
    """
    if to.suffix.lower() != ".json":
        raise Trouble("A schema is written as .json", "end the name so", to)
    require_new(to, False)
    told = schema()
    with written_whole(to) as stream:
        stream.write(json.dumps(told, ensure_ascii=False, default=str).encode())
    return Table("Schema of recipes", [Column("operations")], [(len(told["properties"]["steps"]["items"]["anyOf"]),)])
