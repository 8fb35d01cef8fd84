"""Recipes checked and run, on one subject or on all, here or on a cluster; runs gone on with, listed, judged."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, Literal

import numpy as np

from ...core.errors import Trouble
from ...core.operation import operation
from ...core.parameter import Between, WorldPoint
from ...core.progress import Progress, silent
from ...core.table import Column, Table
from ..journal.logbook import Step
from ..kinds import AnyImage
from ..recipes.book import begin, book
from ..recipes.cohort import Runner
from ..recipes.one_subject import run_recipe
from ..recipes.places import place_for
from ..recipes.plan import Plan, plan_of, plan_table
from ..recipes.ready import recipe_called
from ..recipes.run_tables import runs_table, table_of
from ..recipes.slice_trial import tried_on_slice
from ..recipes.units import Cohort
from ..study import Study
from ._results import keep_table
from ._runs import GROUP, at_once, ended, named_subjects, planned, run_to_end, told_lacking
from .recipe_parts import run_part
from .recipes import RecipeName

RunNumber = Annotated[int, Between(0, 1_000_000)]


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
        return run_part(
            study, found, name or found.title or recipe, part, subjects, waive, workers, allow_deleting, progress
        )
    if each_subject or subjects or cluster:
        study.catalogue.require_writable()
        plan = plan_of(study, found, named_subjects(study, subjects), workers=workers)
        order = planned(study, found, plan, waive, name=name, version=version, allow_deleting=allow_deleting)
        count = at_once(workers)
        place = place_for(count, cluster, study.folder, progress)
        made = begin(study.folder, replace(order, where=place.words))
        run_to_end(Runner(study, made, place, progress, only=told_lacking(made, plan)))
        step = Step("recipe", f"Recipe “{found.title or recipe}” on all subjects",
                    {"recipe": recipe, "run": made.number, "workers": count, "cluster": cluster})  # fmt: skip
        return ended(made, keep_table(study, table_of(made), step))
    done = run_recipe(study, found, subject or None, progress, allow_deleting=allow_deleting)
    rows = [(n, d.title, "was done" if d.found else "done") for n, d in enumerate(done, 1)]
    return Table(f"Recipe {found.title or recipe}", [Column("step"), Column("operation"), Column("state")], rows)


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
    count = at_once(workers)
    run_to_end(Runner(study, made, place_for(count, cluster, study.folder, progress), progress, only=only))
    step = Step("resume-run", f"Resume run {made.number}", {"run": made.number, "workers": count, "cluster": cluster})
    return ended(made, keep_table(study, table_of(made), step))


@operation(
    "report",
    "Try a recipe on a slice",
    name="try-slice",
    keywords="recipe preview test quick one slice",
    repeats=False,
    slow=True,
    group=GROUP,
    called={"at": "Through"},
)
def try_slice(
    study: Study,
    recipe: RecipeName,
    image: AnyImage,
    *,
    at: WorldPoint | None = None,
    progress: Progress = silent(),
) -> Table:
    """Do the steps of a recipe on one slice of an image and what lies within their reach, in memory; nothing is kept.
    It ends at the first step that is told by the whole image.

    Parameters
    ----------
    recipe : text
        One of the study, of the program, or a file in YAML.
    image : image
        One that fills a slot.
    at : three mm
        A place that the slice goes through; the middle of the image when left out.

    Returns
    -------
    Table
        Each step, the mean of the slice then, and how many of its voxels are labelled.

    Raises
    ------
    Trouble
        When the image fills no slot of the recipe.
    """
    found, _, _ = recipe_called(study, recipe)
    running = found.running()
    units = Cohort(study, running).of(image.subject)
    unit = next((u for u in units if any(one.record.id == image.id for one in u.filled.values())), units[0])
    assert image.space is not None
    place = np.array(at) if at is not None else image.space.centre
    columns = [Column("number"), Column("step"), Column("what"), Column("mean", figures=5), Column("labelled")]
    table = Table("Recipe on a slice", columns)
    for one in tried_on_slice(study, running, unit, image.id, place, progress):
        mean = labelled = None
        if one.image is not None:
            frame = one.image.frame((0,) * len(one.image.axes)) if one.image.axes else one.image
            mean = float(np.nanmean(frame.kji[one.image.space.shape[2] // 2]))
        if one.labels is not None:
            labelled = int((one.labels.kji[one.labels.space.shape[2] // 2] > 0).sum())
        table.rows.append((one.number, one.title, one.said, mean, labelled))
    return table


@operation("report", "List runs", name="list-runs", keywords="recipe runs history cohort", repeats=False, group=GROUP)
def list_runs(study: Study, *, run: RunNumber = 0) -> Table:
    """List the runs of recipes in this study; of one, everybody with its state.

    Parameters
    ----------
    run : whole number
        The run whose subjects are listed; all runs when 0.
    """
    if run:
        made = book(study.folder, run)
        return table_of(made if study.read_only else made.nobody_else())
    return runs_table(study)


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
