"""Reports of runs of recipes, and two runs held against each other."""

from __future__ import annotations

from typing import Annotated

from ...core.errors import Trouble
from ...core.operation import operation
from ...core.parameter import Between, NewPath
from ...core.progress import Progress, silent
from ...core.safe_write import require_new, written_whole
from ...core.table import Column, Table
from ..recipes.book import book
from ..recipes.editing import differences
from ..recipes.report.compare import as_html as side_by_side
from ..recipes.report.compare import pairs_of
from ..recipes.report.content import RunReport, report_of
from ..recipes.report.numbers import numbers_of
from ..study import Study
from .recipe_runs import GROUP, RunNumber

ENDINGS = (".html", ".pdf")


@operation(
    "report",
    "Report of a run",
    name="run-report",
    keywords="recipe cohort quality control qc html pdf report group pictures motion methods",
    repeats=False,
    slow=True,
    group=GROUP,
    called={"replace_file": "In place of another"},
    cites=("Iglewicz 1993",),
)
def run_report(
    study: Study,
    to: NewPath,
    *,
    run: RunNumber = 0,
    pictures: bool = True,
    replace_file: bool = False,
    progress: Progress = silent(),
) -> Table:
    """Write the report of a run: a page for everybody with the numbers that are out of the usual, checks passed and
    waived, methods with their sources, versions and hashes; a page for each with pictures to judge it by.

    Numbers are held against the median of all by robust z (B. Iglewicz and D. C. Hoaglin, How to Detect and Handle
    Outliers, 1993), from five on.

    Parameters
    ----------
    to : path
        .html, one file with everything inside, or .pdf.
    run : whole number
        The last one when 0.
    pictures : yes or no
        Draw pictures; without them it is quick.
    replace_file : yes or no
        Take the place of a file of that name.

    Returns
    -------
    Table
        Every number of everybody with its robust z.

    Raises
    ------
    Trouble
        When there is no such run, or the file cannot be written.
    """
    if to.suffix.lower() not in ENDINGS:
        raise Trouble("A report is written as .html or .pdf", "end the name in one of these", to)
    require_new(to, replace_file)
    report = report_of(study, book(study.folder, run), pictures, progress.part(0.0, 0.9))
    progress.at(0.9, "Writing")
    with written_whole(to) as stream:
        if to.suffix.lower() == ".pdf":
            from ..recipes.report.pdf import write_pdf

            write_pdf(report, stream)
        else:
            from ..recipes.report.html import as_html

            stream.write(as_html(report).encode())
    return table_of_numbers(report)


def table_of_numbers(report: RunReport) -> Table:
    """Every number of everybody, with the verdict of who looked."""
    who, value = (Column("subject"), Column("judged"), Column("what")), Column("value", figures=5)
    columns = [*who, value, Column("unit"), Column("z", "", 2), Column("out")]
    table = Table(f"Numbers of {report.title}", columns)
    for unit in report.units:
        judged = unit.verdict.get("verdict", "")
        table.rows += [(unit.words, judged, n.name, n.value, n.unit, n.z, "yes" if n.out else "") for n in unit.numbers]
    return table


@operation(
    "report",
    "Compare two runs",
    name="compare-runs",
    keywords="recipe runs difference settings results versions",
    repeats=False,
    slow=True,
    group=GROUP,
    called={"run": "Run", "other": "Other run"},
)
def compare_runs(
    study: Study,
    run: Annotated[int, Between(1, 1_000_000)],
    other: Annotated[int, Between(1, 1_000_000)],
    *,
    to: NewPath | None = None,
    progress: Progress = silent(),
) -> Table:
    """Hold two runs against each other: what differs in their recipes, and in the numbers of everybody who was in both;
    in pictures side by side, too, where a file is named.

    Parameters
    ----------
    run : whole number
        The one that is begun with.
    other : whole number
        The one that is held against it.
    to : path
        A new .html file for the pictures of what was done otherwise, with the table.

    Raises
    ------
    Trouble
        When there is no such run.
    """
    one, two = book(study.folder, run), book(study.folder, other)
    if to is not None:
        if to.suffix.lower() != ".html":
            raise Trouble("Two runs are shown side by side in .html", "end the name in it", to)
        require_new(to, False)
    numbers = (Column(name, figures=5) for name in (f"run_{run}", f"run_{other}", "difference"))
    columns = [Column("what"), Column("subject"), *numbers]
    table = Table(f"Run {run} and run {other}", columns)
    for words in differences(one.order.recipe, two.order.recipe):
        table.rows.append((words, "recipe", "", "", ""))
    lines = {step.id: step for step in study.logbook.entries()}
    for unit, subject, name in one.order.units:
        if unit not in two.cells:
            continue
        states = one.state(unit), two.state(unit)
        who = f"{subject} {name}".strip()
        if states[0] != states[1]:
            table.rows.append(("state", who, *states, ""))
        mine, theirs = (
            {n.name: n for n in numbers_of(study, [lines[c.step] for c in b.cells[unit] if c.step in lines])}
            for b in (one, two)
        )
        for what in dict.fromkeys((*mine, *theirs)):
            a, b = mine.get(what), theirs.get(what)
            if a is None or b is None or a.value != b.value:
                values = [None if n is None else n.value for n in (a, b)]
                apart = None if a is None or b is None else b.value - a.value
                table.rows.append((what, who, *values, apart))
    if to is not None:
        names = f"Run {run}", f"Run {other}"
        pairs = pairs_of(study, one, two, progress)
        with written_whole(to) as stream:
            stream.write(side_by_side(table.title, names, table, pairs).encode())
    return table
