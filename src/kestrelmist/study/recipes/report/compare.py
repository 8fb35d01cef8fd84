"""Two runs side by side as one file of HTML: what differs in settings, in numbers, and in pictures."""

from __future__ import annotations

from dataclasses import dataclass
from importlib.resources import files
from typing import TYPE_CHECKING

from ....core.operation import operation_called
from ....core.progress import Progress, silent
from ....core.table import Table
from ...journal.logbook import Step
from ..book import RunBook
from .html import embedded
from .pictures import Judged, pictures_of

if TYPE_CHECKING:
    from ...study import Study

SHOWN = 6
"""Pictures of a step."""


@dataclass(frozen=True)
class Pair:
    """A step of a unit that was done otherwise: its title, and what it looks like in both runs."""

    unit: str
    title: str
    one: tuple[Judged, ...]
    other: tuple[Judged, ...]


def pairs_of(study: Study, one: RunBook, other: RunBook, progress: Progress | None = None) -> list[Pair]:
    """Pictures of the steps that are not the same in two runs, for everybody who was in both. Raises Cancelled."""
    progress = progress or silent()
    lines = {step.id: step for step in study.logbook.entries()}
    found = []
    both = [unit for unit, _, _ in one.order.units if unit in other.cells]
    for n, unit in enumerate(both):
        progress.at(n / len(both), one.words(unit))
        steps = [_by_operation(book, unit, lines) for book in (one, other)]
        for key in dict.fromkeys((*steps[0], *steps[1])):
            two = [some.get(key) for some in steps]
            if two[0] is not None and two[1] is not None and two[0].id == two[1].id:
                continue
            drawn = [tuple(pictures_of(study, [s])[:SHOWN]) if s is not None else () for s in two]
            about = operation_called(key[0])
            if any(drawn):
                found.append(Pair(one.words(unit), about.title if about is not None else key[0], *drawn))
    return found


def _by_operation(book: RunBook, unit: str, lines: dict[int, Step]) -> dict[tuple[str, int], Step]:
    """The steps of a unit, by operation and the how manieth of it each is."""
    found: dict[tuple[str, int], Step] = {}
    for step, cell in zip(book.steps, book.cells[unit]):
        line = lines.get(cell.step) if cell.step is not None else None
        if line is not None and not line.undone:
            found[step.operation, sum(name == step.operation for name, _ in found)] = line
    return found


def as_html(title: str, names: tuple[str, str], table: Table, pairs: list[Pair]) -> str:
    """The whole; whatever is in names stands as text."""
    import jinja2

    room = jinja2.Environment(autoescape=True, undefined=jinja2.StrictUndefined, trim_blocks=True, lstrip_blocks=True)
    room.filters["picture"] = embedded
    text = files("kestrelmist.study.recipes.report").joinpath("compare.html.jinja").read_text(encoding="utf-8")
    heads = [column.heading for column in table.columns]
    rows = [[table.shown(n, c) for c in range(len(heads))] for n in range(table.count)]
    return room.from_string(text).render(title=title, names=names, heads=heads, rows=rows, pairs=pairs)
