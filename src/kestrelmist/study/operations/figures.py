"""Figures: pictures, sheets, scenes, plots and tables put together, kept, changed, and drawn anew when written."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Annotated, Any, Literal

from ...core.errors import Trouble
from ...core.figure import Figure, Panel
from ...core.names import plain_name
from ...core.operation import find_operation, operation
from ...core.parameter import Between, NewPath, Unit
from ...core.plain_yaml import plain_yaml
from ...core.progress import Progress, silent
from ...core.safe_write import require_new
from ...core.table import Column, Table
from ...report.figure_page import figure_page, letter
from ...report.numbers import numbers_of
from ...report.paper import INCH, LETTERS
from ...scene.painting import pages_taken, painter_for, write_page
from ...scene.primitives import Page
from ..inputs import settle
from ..items import Record
from ..journal.changes import ItemChange
from ..journal.logbook import Step
from ..study import Study
from ..task import compute

PANELS = ("picture", "sheet", "render", "plot", "table-picture")
"""Operations that make the page of a panel."""
GROUP = "Figures"
GAP = 10.0
"""Page units between panels."""
SIZED = {"sheet": "width", "plot": "wide", "table-picture": "wide", "picture": "wide", "render": "wide"}
"""The setting that says how wide a page is on paper."""


@operation(
    "report",
    "Add a panel to a figure",
    name="add-panel",
    keywords="figure panels multi-panel",
    repeats=False,
    group=GROUP,
)
def add_panel(
    study: Study, figure: str, panel: Literal["picture", "sheet", "render", "plot", "table-picture"], given: str = ""
) -> Table:
    """Add a panel to a figure, which is begun when there is none of its name.

    Parameters
    ----------
    figure : text
        Name of the figure.
    panel : text
        What the panel is: the name of the operation that makes it.
    given : text
        What that is given, as “image: HM-07/Head T1, plane: coronal”: inputs and settings by their names.

    Raises
    ------
    Trouble
        When something that is given is unknown or wrong, or the figure has too many panels.
    """
    try:
        told = plain_yaml("{" + given + "}") or {}
    except ValueError as error:
        what = "write names and values as in “image: Head T1, count: 12”"
        raise Trouble(f"“{given[:60]}” cannot be read", what) from error
    if not isinstance(told, dict):
        raise Trouble(f"“{given[:60]}” cannot be read", "write names and values as in “image: Head T1, count: 12”")
    return table_of(study, keep_panel(study, figure, panel, {str(name): value for name, value in told.items()}))


def keep_panel(study: Study, name: str, made_by: str, given: dict[str, Any]) -> Figure:
    """Add a panel of what is given; returns the figure as it is then."""
    if made_by not in PANELS:
        raise Trouble(f"“{made_by}” makes no panel", f"choose one of: {', '.join(PANELS)}")
    wanted = plain_name(name)
    if not wanted:
        raise Trouble("A figure needs a name", "type one")
    about = find_operation(made_by)
    rest = {key: value for key, value in given.items() if key not in ("to", "replace_file")}
    task = settle(study, made_by, rest | {"to": Path("panel.svg")})
    inputs: dict[str, list[int]] = {}
    for key, several in task.inputs.items():
        if any(one.item is None for one in several):
            raise Trouble("A panel is made of things of the study", "bring the file into the study first")
        if several:
            inputs[key] = [one.item for one in several if one.item is not None]
    written = about.written({n: v for n, v in task.settings.items() if n not in ("to", "replace_file")})
    panel = Panel(made_by, inputs, {n: v for n, v in written.items() if v is not None})
    record = _named(study, wanted)
    before = Figure(name=wanted) if record is None else study.thing(record.id)
    after = before.with_panel(panel)
    title = f"Add a panel to “{wanted}”"
    step = Step("add-panel", title, {"figure": wanted, "panel": made_by})
    if record is None:
        fresh = Record(0, "figure", "", wanted, None, None, "", after.as_dict(), removed=True)
        with study.catalogue.change() as db:
            made = study.items.insert(db, fresh)
        study.history.do([ItemChange(made, title, {"removed": True}, {"removed": False})], step, title)
    else:
        _change(study, record, before, after, step, title)
    return after


@operation(
    "report",
    "Change a figure",
    name="change-figure",
    keywords="figure panels order remove columns",
    repeats=False,
    group=GROUP,
)
def change_figure(
    study: Study, figure: str, order: str = "", columns: Annotated[int | None, Between(1, 12)] = None
) -> Table:
    """Put the panels of a figure in another order, leave some out, or let other many stand beside each other.

    Parameters
    ----------
    figure : text
        Its name.
    order : text
        Numbers of panels as they stand now, in the order they are to have; those that are not named are left out.
    columns : whole number
        Panels beside each other.

    Raises
    ------
    Trouble
        When there is no such figure or panel.
    """
    record = _required(study, figure)
    before = study.thing(record.id)
    after = before.ordered([int(n) for n in numbers_of(order)]) if order.strip() else before
    after = replace(after, columns=columns) if columns is not None else after
    title = f"Change “{record.name}”"
    step = Step("change-figure", title, {"figure": record.name, "order": order, "columns": columns})
    _change(study, record, before, after, step, title)
    return table_of(study, after)


def _change(study: Study, record: Record, before: Figure, after: Figure, step: Step, title: str) -> None:
    facts = (before.as_dict(), after.as_dict())
    fields = [{f"body.{name}": one[name] for name in ("panels", "columns")} for one in facts]
    study.history.do([ItemChange(record.id, title, fields[0], fields[1])], step, title)


@operation(
    "report",
    "Write a figure",
    name="figure",
    keywords="figure panels letters journal multi-panel publication compose",
    called={"wide": "Wide", "dpi": "Dots an inch", "letters": "Letters", "replace_file": "In place of another"},
    rare="replace_file gap",
    repeats=False,
    group=GROUP,
)
def figure(
    study: Study,
    figure: str,
    *,
    to: NewPath,
    wide: Annotated[float, Unit("mm"), Between(20, 2000)] = 174.0,
    dpi: Annotated[float, Between(20, 2400)] = 300.0,
    letters: bool = True,
    ground: Literal["light", "dark"] = "light",
    gap: Annotated[float, Unit("mm"), Between(0, 100)] = 2.5,
    replace_file: bool = False,
    progress: Progress = silent(),
) -> Table:
    """Write a figure: its panels are drawn anew from what they are of.

    Parameters
    ----------
    figure : text
        Its name.
    to : path
        A new file: .png, .jpg, .tif, .svg or .pdf.
    wide : mm
        Of the whole figure on paper.
    dpi : number
        Pixels to an inch.
    letters : bool
        a, b, c over the panels.
    ground : text
        Of the page.
    gap : mm
        Between panels.
    replace_file : bool
        Take the place of a file of that name.

    Raises
    ------
    Trouble
        When there is no such figure, something that a panel is of is gone, or the file cannot be written.
    """
    painter_for(to)
    require_new(to, replace_file)
    page = drawn_figure(study, figure, wide, dpi, letters, ground, gap, progress)
    write_page(page, to)
    record = _required(study, figure)
    table = table_of(study, study.thing(record.id))
    table.title = f"{record.name} as {to.name}"
    return table


def drawn_figure(
    study: Study,
    name: str,
    wide: float = 174.0,
    dpi: float = 300.0,
    letters: bool = True,
    ground: str = "light",
    gap: float = 2.5,
    progress: Progress = silent(),
) -> Page:
    """The page of a figure, its panels drawn anew; see `figure`. Raises Trouble as that does."""
    record = _required(study, name)
    whole: Figure = study.thing(record.id)
    if not whole.panels:
        raise Trouble(f"“{record.name}” has no panels", "add one first")
    columns = max(1, min(whole.columns, len(whole.panels)))
    millimetres = INCH / dpi
    across = (wide - (columns - 1) * gap) / columns
    pages = []
    for n, panel in enumerate(progress.over(whole.panels, what="Drawing panels")):
        pages.append(_page_of(study, panel, across, dpi, f"{record.name} {letter(n)}", progress))
    return figure_page(
        *(pages, columns, max(64, round(wide / millimetres)), LETTERS / millimetres, millimetres),
        *(gap / LETTERS, letters, ground, record.name),
    )


def _page_of(study: Study, panel: Panel, across: float, dpi: float, called: str, progress: Progress) -> Any:
    given: dict[str, Any] = dict(panel.settings)
    about = find_operation(panel.operation)
    for p in about.inputs:
        keys = panel.inputs.get(p.name, [])
        for key in keys:
            one = study.items.get(key)
            if one is None or one.removed:
                raise Trouble(f"What panel {called} shows is no longer in the study", "bring it back, or leave it out")
        if keys:
            given[p.name] = keys if p.many else keys[0]
    given |= {SIZED[panel.operation]: across, "dpi": dpi, "to": Path("panel.svg")}
    if panel.operation in ("picture", "render"):
        given["columns"] = ""
    task = settle(study, panel.operation, given)
    with pages_taken() as taken:
        compute(study, task, progress.part(0.0, 1.0), prepare=False)
    return taken[-1]


def table_of(study: Study, whole: Figure) -> Table:
    """The panels of a figure, as a table."""
    table = Table(whole.name, [Column("panel"), Column("letter"), Column("made by"), Column("of")])
    for n, panel in enumerate(whole.panels):
        records = [study.items.get(key) for keys in panel.inputs.values() for key in keys]
        names = dict.fromkeys("gone" if one is None or one.removed else one.name for one in records)
        table.rows.append((n + 1, letter(n), panel.operation, ", ".join(names)))
    return table


def figures(study: Study) -> list[Record]:
    """The figures of a study."""
    return [one for one in study.items.of_kind("figure") if not one.removed]


def _named(study: Study, name: str) -> Record | None:
    return next((one for one in figures(study) if one.name.casefold() == name.casefold()), None)


def _required(study: Study, name: str) -> Record:
    record = _named(study, plain_name(name))
    if record is None:
        known = [one.name for one in figures(study)]
        what = f"choose one of: {', '.join(known)}" if known else "add a panel to begin one"
        raise Trouble(f"There is no figure “{name}”", what)
    return record
