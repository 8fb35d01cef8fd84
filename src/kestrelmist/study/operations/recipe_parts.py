"""Parts of a run, done beside a study for a batch system and taken into it."""

from __future__ import annotations

import re
from dataclasses import replace

from ...core.errors import Trouble
from ...core.operation import operation
from ...core.progress import Progress, silent
from ...core.table import Table
from ..recipes.book import begin, books
from ..recipes.cohort import Runner
from ..recipes.part import begin_part, parts_left, take_part, wait_for
from ..recipes.places import place_for
from ..recipes.plan import plan_of
from ..recipes.recipe import Recipe
from ..recipes.run_tables import runs_table, table_of
from ..recipes.text import as_yaml
from ..store import hash_of
from ..study import Study
from ._runs import GROUP, at_once, ended, named_subjects, planned, run_to_end, told_lacking

PART = re.compile(r"^\s*(\d+)\s*/\s*(\d+)\s*$")
PATIENCE = 600.0
"""Seconds that a part waits for the study."""


def part_of(text: str) -> tuple[int, int]:
    """(k, n) out of “k/n”; (1, 1) of an empty text."""
    if not text.strip():
        return 1, 1
    found = PART.match(text)
    k, n = (int(found[1]), int(found[2])) if found else (0, 0)
    if not 1 <= k <= n:
        raise Trouble(f"“{text}” is no part", "write it as 3/40: the third of forty")
    return k, n


def run_part(
    study: Study,
    found: Recipe,
    name: str,
    part: str,
    subjects: str,
    waive: str,
    workers: int,
    allow_deleting: bool,
    progress: Progress,
) -> Table:
    """A part by itself, beside the study; taken in at the end, when nobody else holds it by then."""
    k, n = part_of(part)
    plan = plan_of(study, found, named_subjects(study, subjects), workers=workers)
    order = planned(study, found, plan, waive, (k, n), name=name, allow_deleting=allow_deleting)
    text = hash_of(as_yaml(found) + repr(order.units))[:8]
    home = begin_part(study.folder, f"{k} of {n}, {text}")
    with Study(home) as beside:
        beside.catalogue.require_writable()
        there = books(home)
        place = place_for(at_once(workers), folder=home, progress=progress)
        made = there[0] if there else begin(home, replace(order, where=f"part {k} of {n}, {place.words}"))
        run_to_end(Runner(beside, made, place, progress, only=told_lacking(made, plan)))
        table = table_of(made)
    if not study.read_only:
        take_part(study, home)
    else:
        free = wait_for(study.folder, PATIENCE, progress)
        if free is None:
            study.notice("The study is held by another; “Take parts in” takes this part in later")
        else:
            with free:
                take_part(free, home)
    return ended(made, table)


@operation(
    "report",
    "Take parts in",
    name="take-parts",
    keywords="recipe batch parts cluster collect merge results",
    repeats=False,
    slow=True,
    edits="label map",
    group=GROUP,
)
def take_parts(study: Study, *, progress: Progress = silent()) -> Table:
    """Take in what parts of runs have made that a batch system has done and that could not be taken in then.

    Returns
    -------
    Table
        The runs that came.

    Raises
    ------
    Trouble
        When a part is damaged, or the study cannot be written.
    """
    study.catalogue.require_writable()
    came = [one.number for path in progress.over(parts_left(study.folder)) for one in take_part(study, path)]
    table = runs_table(study)
    table.rows = [row for row in table.rows if row[0] in came]
    return table
