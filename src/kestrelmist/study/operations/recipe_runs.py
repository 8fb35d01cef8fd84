"""Recipes checked and run, on one subject or on all, here or on a cluster; runs gone on with, listed, judged."""

from __future__ import annotations

import os
import re
from dataclasses import replace
from typing import Annotated, Literal

from ...core.errors import Cancelled, Partly, Trouble
from ...core.operation import operation
from ...core.parameter import Between
from ...core.progress import Progress, silent
from ...core.table import Column, Table
from ..journal.logbook import Step
from ..recipes import book as states
from ..recipes.book import RunBook, begin, book, books
from ..recipes.cohort import Runner, order_of, table_of
from ..recipes.one_subject import run_recipe
from ..recipes.part import begin_part, parts_left, take_part, wait_for
from ..recipes.places import place_for
from ..recipes.plan import Plan, plan_of, plan_table
from ..recipes.ready import recipe_called
from ..recipes.recipe import Recipe
from ..recipes.text import as_yaml
from ..store import hash_of
from ..study import Study
from ._results import keep_table
from .recipes import RecipeName

GROUP = "Steps"
PATIENCE = 600.0
"""Seconds that a part waits for the study."""
RunNumber = Annotated[int, Between(0, 1_000_000)]
PART = re.compile(r"^\s*(\d+)\s*/\s*(\d+)\s*$")


@operation(
    "report",
    "Check a recipe",
    name="check-recipe",
    keywords="recipe before dry run validate missing inputs names counts cohort plan",
    repeats=False,
    slow=True,
    group=GROUP,
)
def check_recipe(study: Study, recipe: RecipeName, *, subjects: str = "") -> Table:
    """Check a recipe before it starts, on all subjects or some: what is missing or fits several, what belongs to
    another run, counts and times, sidecars, smoothing, sides, disk and memory, and how long it may take.

    Parameters
    ----------
    recipe : text
        One of the study, of the program, or a file in YAML.
    subjects : text
        Names with commas between; all when left out.

    Returns
    -------
    Table
        A row for everybody and every notice.

    Raises
    ------
    Trouble
        When there is no such recipe or subject.
    """
    found, name, _ = recipe_called(study, recipe)
    plan = plan_of(study, found, named_subjects(study, subjects))
    table = plan_table(plan)
    table.title = f"“{name or found.title or recipe}” checked: {plan_words(plan)}"
    return table


def plan_words(plan: Plan) -> str:
    """How many are ready, and what it takes."""
    counts = ", ".join(f"{n} {state}" for state, n in plan.counts.items() if n)
    time = "time not known yet" if plan.seconds is None else f"about {_time(plan.seconds)} one after another"
    return f"{counts}; {time}; about {plan.bytes_needed / 1e9:.2g} GB"


def _time(seconds: float) -> str:
    return (
        f"{seconds:.0f} s"
        if seconds < 100
        else f"{seconds / 60:.0f} min"
        if seconds < 6000
        else f"{seconds / 3600:.1f} h"
    )


def named_subjects(study: Study, text: str) -> list[str] | None:
    """Subjects out of a text with commas; None for all. Raises Trouble when there is none of a name."""
    wanted = [one.strip() for one in text.split(",") if one.strip()]
    if not wanted:
        return None
    known = {name.casefold(): name for name in study.subjects()}
    if text.strip().casefold() in known:  # a name may hold a comma
        return [known[text.strip().casefold()]]
    for name in wanted:
        if name.casefold() not in known:
            raise Trouble(f"There is no subject “{name}” in this study", "check the name", study.folder)
    return list(dict.fromkeys(known[name.casefold()] for name in wanted))


def part_of(text: str) -> tuple[int, int]:
    """(k, n) out of “k/n”; (1, 1) of an empty text."""
    if not text.strip():
        return 1, 1
    found = PART.match(text)
    k, n = (int(found[1]), int(found[2])) if found else (0, 0)
    if not 1 <= k <= n:
        raise Trouble(f"“{text}” is no part", "write it as 3/40: the third of forty")
    return k, n


@operation(
    "report",
    "Run a recipe",
    name="recipe",
    keywords="repeat batch cohort subjects again macro script pipeline workflow cluster dask slurm",
    repeats=False,
    slow=True,
    edits="label map",
    called={
        "subject": "On one subject",
        "subjects": "On these subjects",
        "each_subject": "Every subject",
        "allow_writing": "May write files",
        "allow_deleting": "May delete",
        "waive": "Waive notices, because",
    },
    rare="workers cluster part",
    group=GROUP,
)
def recipe(
    study: Study,
    recipe: RecipeName,
    subject: str = "",
    *,
    each_subject: bool = False,
    subjects: str = "",
    workers: Annotated[int, Between(0, 256)] = 1,
    cluster: str = "",
    part: str = "",
    waive: str = "",
    allow_writing: bool = False,
    allow_deleting: bool = False,
    progress: Progress = silent(),
) -> Table:
    """Do the steps of a recipe again, on one subject, on some or on all; work that is done already is found and passed
    over. It is checked first; what the checks say goes into the report of the run.

    Parameters
    ----------
    recipe : text
        One of the study, of the program, or a file in YAML, as the logbook writes it.
    subject : text
        Whose things fill the slots; the subject the recipe was made on when left out.
    each_subject : bool
        Run it on every subject of the study. One that fails does not stop the others.
    subjects : text
        Run it on these, names with commas between.
    workers : number
        Processes that compute, with several subjects; 0 computes in this one.
    cluster : text
        Address of a Dask scheduler whose workers compute, as in tcp://10.0.0.5:8786; they have to see the study's
        folder under the same path.
    part : text
        Of all subjects one part, as in 3/40, for a batch system that runs each part by itself.
    waive : text
        Why notices of the checks do not matter; written into the report with each of them.
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
        When the recipe is wrong, or something that it needs is missing; before anything runs. After it, when some
        subjects failed: the others are done.
    """
    found, name, version = recipe_called(study, recipe)
    try:
        found.require_allowed(allow_writing, allow_deleting)
    except Trouble as trouble:
        raise Trouble(trouble.what, trouble.do, None if name else recipe) from None
    if subject and (each_subject or subjects):
        raise Trouble("A recipe runs on one subject or on each, not both", "leave one of them out")
    if part.strip():
        return _part(
            study, found, name or found.title or recipe, part, subjects, waive, workers, allow_deleting, progress
        )
    if each_subject or subjects or cluster:
        study.catalogue.require_writable()
        plan = plan_of(study, found, named_subjects(study, subjects), workers=workers)
        order = order_of(
            study,
            found,
            named_subjects(study, subjects),
            name=name,
            version=version,
            noticed={n.key: (n.unit, n.sentence, waive.strip()) for n in plan.open},
            passed=plan.passed,
            allow_deleting=allow_deleting,
        )
        count = min(workers, 4 * (os.cpu_count() or 1))
        place = place_for(count, cluster, study.folder, progress)
        made = begin(study.folder, replace(order, where=place.words))
        _run(Runner(study, made, place, progress))
        step = Step("recipe", f"Recipe “{found.title or recipe}” on all subjects",
                    {"recipe": recipe, "run": made.number, "workers": count, "cluster": cluster})  # fmt: skip
        return _ended(study, made, keep_table(study, table_of(made), step))
    done = run_recipe(study, found, subject or None, progress, allow_deleting=allow_deleting)
    rows = [(n, d.title, "was done" if d.found else "done") for n, d in enumerate(done, 1)]
    return Table(f"Recipe {found.title or recipe}", [Column("step"), Column("operation"), Column("state")], rows)


def _part(
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
    noticed = {one.key: (one.unit, one.sentence, waive.strip()) for one in plan.open}
    facts = {"name": name, "noticed": noticed, "passed": plan.passed, "allow_deleting": allow_deleting}
    order = order_of(study, found, named_subjects(study, subjects), (k, n), **facts)
    text = hash_of(as_yaml(found) + repr(order.units))[:8]
    home = begin_part(study.folder, f"{k} of {n}, {text}")
    with Study(home) as beside:
        beside.catalogue.require_writable()
        there = books(home)
        place = place_for(min(workers, 4 * (os.cpu_count() or 1)), folder=home, progress=progress)
        made = there[0] if there else begin(home, replace(order, where=f"part {k} of {n}, {place.words}"))
        _run(Runner(beside, made, place, progress))
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
    return _ended(study, made, table)


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
    table = list_runs(study)
    table.rows = [row for row in table.rows if row[0] in came]
    return table


def _run(runner: Runner) -> None:
    try:
        runner.run()
    except Cancelled:
        return  # the table says who was stopped


def _ended(study: Study, made: RunBook, table: Table) -> Table:
    """The table of a run; raises Partly when not everybody is done."""
    counts: dict[str, int] = {}
    for unit, _, _ in made.order.units:
        counts[made.state(unit)] = counts.get(made.state(unit), 0) + 1
    bad = {s: n for s, n in counts.items() if s not in (*states.OVER, states.LEFT_OUT)}
    if bad:
        told = ", ".join(f"{n} {state}" for state, n in bad.items())
        first = next(made.said(u) for u, _, _ in made.order.units if made.state(u) in bad)
        raise Partly(
            f"Of {len(made.order.units)}, {told}" + (f": {first.rstrip('.')}" if first else ""),
            f"see the table, mend it, and resume run {made.number}",
            done={"table": table},
        )
    return table


@operation(
    "report",
    "Resume a run",
    name="resume-run",
    keywords="recipe continue after stop power cut crash failed again retry",
    repeats=False,
    slow=True,
    edits="label map",
    rare="workers cluster",
    group=GROUP,
)
def resume_run(
    study: Study,
    *,
    run: RunNumber = 0,
    subjects: str = "",
    workers: Annotated[int, Between(0, 256)] = 1,
    cluster: str = "",
    progress: Progress = silent(),
) -> Table:
    """Go on with a run that was stopped, or that failed for some: what is done is passed over.

    Parameters
    ----------
    run : whole number
        Its number; the last one when 0.
    subjects : text
        Only with these, names with commas between.
    workers : number
        Processes that compute; 0 computes in this one.
    cluster : text
        Address of a Dask scheduler, as in “Run a recipe”.

    Raises
    ------
    Trouble
        When there is no such run, or some failed again.
    """
    made = book(study.folder, run)
    names = named_subjects(study, subjects)
    only = None if names is None else {u for u, s, _ in made.order.units if s in names}
    count = min(workers, 4 * (os.cpu_count() or 1))
    _run(Runner(study, made, place_for(count, cluster, study.folder, progress), progress, only=only))
    step = Step("resume-run", f"Resume run {made.number}", {"run": made.number, "workers": count, "cluster": cluster})
    return _ended(study, made, keep_table(study, table_of(made), step))


@operation("report", "List runs", name="list-runs", keywords="recipe runs history cohort", repeats=False, group=GROUP)
def list_runs(study: Study, *, run: RunNumber = 0) -> Table:
    """List the runs of recipes in this study; of one, everybody with its state.

    Parameters
    ----------
    run : whole number
        The run whose subjects are listed; all runs when 0.
    """
    if run:
        return table_of(book(study.folder, run))
    names = ("run", "recipe", "version", "when", "who", "where", "subjects", "done", "failed", "left")
    table = Table("Runs", [Column(name) for name in names])
    for one in books(study.folder):
        by = [one.state(u) for u, _, _ in one.order.units]
        done, failed = sum(s in states.OVER for s in by), by.count(states.FAILED)
        order = one.order
        table.rows.append((one.number, order.name or order.recipe.title, order.version or None,
                           order.made[:16].replace("T", " "), order.who, order.where, len(by), done, failed,
                           len(by) - done - failed))  # fmt: skip
    return table


@operation(
    "report",
    "Judge a subject of a run",
    name="judge-run",
    keywords="quality control qc rating verdict accept reject pass fail review",
    repeats=False,
    group=GROUP,
    called={"verdict": "It is"},
)
def judge_run(
    study: Study,
    subject: str,
    verdict: Literal["fine", "doubtful", "bad"],
    *,
    run: RunNumber = 0,
    name: str = "",
    note: str = "",
) -> Table:
    """Write down what somebody who looked at the results of a run says of a subject; it goes into the report, and as a
    column into tables.

    Parameters
    ----------
    subject : text
        Whose results were looked at.
    verdict : text
        Fine, doubtful or bad.
    run : whole number
        The last one when 0.
    name : text
        Which run or visit of the subject, where there are several.
    note : text
        Why.

    Raises
    ------
    Trouble
        When it was not in that run.
    """
    study.catalogue.require_writable()
    made = book(study.folder, run)
    who, which = subject.strip().casefold(), name.strip().casefold()
    fits = [u for u, s, n in made.order.units if s.casefold() == who and which in ("", n.casefold())]
    if not fits:
        raise Trouble(f"“{subject}” was not in run {made.number}", "see “List runs”")
    for unit in fits:
        made.judge(unit, verdict, note)
    made.close()
    return table_of(made)
