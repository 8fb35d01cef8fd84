"""The logbook as a table and as a recipe; recipes on a subject or on all."""

from __future__ import annotations

import os
from typing import Annotated

from ...core.errors import Trouble
from ...core.operation import operation
from ...core.parameter import Between, FilePath, NewPath
from ...core.progress import Progress, silent
from ...core.table import Column, Table
from .. import kinds  # noqa: F401  (makes the kinds known)
from ..cohort import run_cohort
from ..journal.logbook import Step
from ..recipe import read_recipe, recipe_of, write_recipe
from ..repeating import run_recipe
from ..study import Study
from ._results import keep_table


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
    steps = [s for s in study.logbook.entries() if not subject or s.subject.casefold() == subject.casefold()]
    if subject and not steps:
        raise Trouble(f"There is no step of “{subject}” in the logbook", "check the name", study.folder)
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


@operation(
    "report",
    "Run a recipe",
    name="recipe",
    keywords="repeat batch cohort subjects again macro script pipeline workflow",
    repeats=False,
    slow=True,
    edits="label map",
    called={"each_subject": "Every subject", "allow_writing": "May write files", "allow_deleting": "May delete"},
    rare="workers",
    group="Steps",
)
def recipe(
    study: Study,
    file: FilePath,
    subject: str = "",
    *,
    each_subject: bool = False,
    workers: Annotated[int, Between(0, 256)] = 1,
    allow_writing: bool = False,
    allow_deleting: bool = False,
    progress: Progress = silent(),
) -> Table:
    """Do the steps of a recipe again, on one subject or on all; work that is done already is found and passed over.

    Parameters
    ----------
    file : path
        The recipe, in YAML, as the logbook writes it.
    subject : text
        Whose things fill the slots; the subject the recipe was made on when left out.
    each_subject : bool
        Run it on every subject of the study. One that fails does not stop the others.
    workers : number
        Processes that compute, with `each_subject`; 0 computes in this one.
    allow_writing : bool
        Let steps write files outside the study. Without it, a recipe that would is not begun, and what it would write
        is listed.
    allow_deleting : bool
        Let steps do what cannot be undone, such as delete for good. Without it, a recipe that would is not begun, and
        what it would do is listed.

    Returns
    -------
    Table of what happened to each step, or to each subject.

    Raises
    ------
    Trouble
        When the recipe is wrong, or something that it needs is missing; before anything runs.
    """
    found = read_recipe(file)
    try:
        found.require_allowed(allow_writing, allow_deleting)
    except Trouble as trouble:
        raise Trouble(trouble.what, trouble.do, file) from None
    if each_subject:
        if subject:
            raise Trouble("A recipe runs on one subject or on each, not both", "leave one of them out")
        table = run_cohort(study, found, None, min(workers, 4 * (os.cpu_count() or 1)), progress, allow_deleting)
        step = Step("recipe", f"Recipe “{file.name}” on all subjects", {"file": str(file), "workers": workers})
        return keep_table(study, table, step)
    done = run_recipe(study, found, subject or None, progress, allow_deleting=allow_deleting)
    rows = [(n, d.title, "was done" if d.found else "done") for n, d in enumerate(done, 1)]
    return Table(f"Recipe {file.name}", [Column("step"), Column("operation"), Column("state")], rows)
