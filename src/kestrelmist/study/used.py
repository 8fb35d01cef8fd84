"""What a task will use, and from where: told before anything is done."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from ..core.digits import plain
from ..core.left_out import Found
from ..core.parameter import Parameter
from ..core.progress import Progress, silent
from ..core.quantity import suited
from ..core.table import Column, Table
from .new_names import with_names
from .open_study import OpenStudy
from .opened import opened_arguments
from .task import Task

GIVEN, USUAL, LATER = "given", "usual", "found when it is done"
NOTHING = "none"


@dataclass(frozen=True)
class Used:
    """One input or setting: its name, what stands for it, and from where."""

    name: str
    words: str
    value: str
    whence: str


def found_for(study: OpenStudy | None, task: Task, progress: Progress | None = None) -> dict[str, Found | str]:
    """What is found for settings that were left out, by name; the words of a trouble where one cannot be found. No
    values are read."""
    operation = task.about
    left = [p for p in operation.settings if p.left_out is not None and p.left_out.find is not None]
    if not any(task.settings.get(p.name) is None for p in left):
        return {}
    arguments = opened_arguments(study, operation, task.inputs, progress or silent(), fetch=False)
    return operation.found({p.name: arguments.get(p.name) for p in operation.inputs} | task.settings)


def used(study: OpenStudy | None, task: Task, progress: Progress | None = None) -> list[Used]:
    """Everything a task will use, in the order of its parameters; raises Trouble when an input cannot be read."""
    operation = task.about
    found = found_for(study, task, progress)
    settings = with_names(operation, task.settings, task.inputs, study)
    rows = []
    for p in operation.parameters:
        if p.kind.family == "study" or p.role in ("mark", "secret", "names"):
            continue
        if p.is_input:
            given = task.inputs.get(p.name, ())
            value = ", ".join(g.thing.path or str(g.thing.reference) for g in given) or NOTHING
            whence = (given[0].whence or GIVEN) if given else USUAL
            if given and given[0].blank is not None:
                whence = "made with this step"
            rows.append(Used(p.name, p.words, value, whence))
        elif p.counts(settings):
            rows.append(_setting(p, settings.get(p.name), found.get(p.name), p.name in task.said))
    return rows


def _setting(p: Parameter, value: Any, found: Found | str | None, said: bool) -> Used:
    if isinstance(found, Found):
        return Used(p.name, p.words, shown(found.value, p), found.whence)
    if isinstance(found, str):
        return Used(p.name, p.words, NOTHING, found)
    if value is None or value == "":
        words = p.left_out.words if p.left_out is not None else NOTHING
        return Used(p.name, p.words, words, GIVEN if said else USUAL)
    return Used(p.name, p.words, shown(value, p), GIVEN if said else USUAL)


def shown(value: Any, p: Parameter) -> str:
    """A setting as a person reads it, in a unit that suits its size."""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, (list, tuple)):
        return ", ".join(shown(one, p) for one in value)
    if isinstance(value, (int, float)) and p.unit and p.unit != "value":
        return suited(float(value), p.unit)
    return plain(value) if isinstance(value, float) else str(value)


def used_table(title: str, rows: list[Used]) -> Table:
    """The same as a table."""
    columns = [Column("setting"), Column("what"), Column("from")]
    return Table(f"{title} would use", columns, [(row.words, row.value, row.whence) for row in rows])
