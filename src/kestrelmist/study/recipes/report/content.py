"""Everything that a report of a run tells, gathered; who writes it as HTML or PDF asks nothing more."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from .... import VERSION
from ....core.operation import find_operation
from ....core.progress import Progress, silent
from ...journal.logbook import Step
from ...methods import sentences_of
from ...subjects import standard_spaces
from ...used import shown
from .. import book as states
from ..book import RunBook
from ..text import as_yaml
from .numbers import Number, among_all, numbers_of
from .pictures import Judged, pictures_of

if TYPE_CHECKING:
    from ...study import Study


@dataclass(frozen=True)
class StepLine:
    """One step of a unit: its title, state, settings in words, what came in and out with hashes, seconds."""

    title: str
    state: str
    settings: str = ""
    things: tuple[tuple[str, str], ...] = ()
    seconds: float = 0.0
    what: str = ""


@dataclass(frozen=True)
class UnitPart:
    """A subject, or one run of it."""

    key: str
    words: str
    state: str
    said: str = ""
    verdict: dict[str, str] = field(default_factory=dict)
    comes_in: tuple[tuple[str, str], ...] = ()
    """Slots, and what filled each and why."""
    steps: tuple[StepLine, ...] = ()
    numbers: tuple[Number, ...] = ()
    pictures: tuple[Judged, ...] = ()

    @property
    def out(self) -> list[Number]:
        """Its numbers that are out of the usual."""
        return [n for n in self.numbers if n.out]


@dataclass(frozen=True)
class RunReport:
    """A whole report."""

    title: str
    facts: tuple[tuple[str, str], ...]
    noticed: tuple[tuple[str, str, str], ...]
    """Who, what the checks said, and why it was waived; "" where nobody has."""
    passed: tuple[str, ...]
    units: tuple[UnitPart, ...]
    methods: tuple[tuple[str, tuple[int, ...]], ...]
    sources: tuple[str, ...]
    names: tuple[str, ...] = ()
    """Names of the numbers that are told of several units."""


def report_of(study: Study, book: RunBook, pictures: bool = True, progress: Progress | None = None) -> RunReport:
    """Gather the report of a run. Raises Cancelled."""
    progress = progress or silent()
    lines = {step.id: step for step in study.logbook.entries()}
    units = book.order.units
    done: dict[str, list[Step]] = {}
    for key, _, _ in units:
        found = [lines.get(cell.step) for cell in book.cells[key] if cell.step is not None]
        done[key] = [step for step in found if step is not None and not step.undone]
    numbers = among_all({key: numbers_of(study, done[key]) for key, _, _ in units})
    parts = []
    for n, (key, subject, name) in enumerate(units):
        part = progress.part(n / len(units), (n + 1) / len(units))
        words = f"{subject} {name}".strip()
        part.at(0.0, words)
        drawn = pictures_of(study, done[key], part) if pictures else []
        parts.append(
            UnitPart(
                key,
                words,
                book.state(key),
                book.said(key),
                book.verdicts.get(key, {}),
                tuple(book.order.comes_in.get(key, {}).items()),
                tuple(_lines(book, key, lines)),
                tuple(numbers[key]),
                tuple(drawn),
            )
        )
    told, sources = _methods(study, list({id(s): s for several in done.values() for s in several}.values()))
    counts: dict[str, int] = {}
    for numbers_of_unit in numbers.values():
        for number in numbers_of_unit:
            counts[number.name] = counts.get(number.name, 0) + 1
    order = book.order
    recipe = order.name or order.recipe.title or "Recipe"
    by = [one.state for one in parts]
    facts = (
        ("Recipe", f"{recipe}{f', version {order.version}' if order.version else ''}"),
        ("Run", f"{book.number}, {order.made[:16].replace('T', ' ')}, by {order.who or 'nobody known'}"),
        ("Where", order.where),
        ("On", f"{len(units)}: " + ", ".join(f"{by.count(s)} {s}" for s in dict.fromkeys(by))),
        ("Took", f"{book.seconds / 60:.1f} min of computing"),
        ("Program", f"Kestrelmist {order.program}" + (f", reported by {VERSION}" if order.program != VERSION else "")),
        ("Recipe's text", _hash_of_recipe(book)),
    )
    noticed = tuple((book.words(unit) if unit else "all", said, why) for unit, said, why in order.noticed.values())
    return RunReport(
        f"{recipe}: run {book.number}",
        tuple((k, v) for k, v in facts if v),
        noticed,
        order.passed,
        tuple(parts),
        tuple((text, tuple(refs)) for text, refs in told),
        tuple(sources),
        tuple(name for name, count in counts.items() if count > 1),
    )


def _hash_of_recipe(book: RunBook) -> str:
    return f"SHA-256 {hashlib.sha256(as_yaml(book.order.recipe).encode()).hexdigest()}"


def _methods(study: Study, steps: list[Step]) -> tuple[list[tuple[str, list[int]]], list[str]]:
    return sentences_of(steps, standard=standard_spaces(study))


def _lines(book: RunBook, key: str, lines: dict[int, Step]) -> list[StepLine]:
    found = []
    for step, cell in zip(book.steps, book.cells[key]):
        about = find_operation(step.operation)
        line = lines.get(cell.step) if cell.step is not None else None
        if line is None:
            found.append(StepLine(about.title, cell.state, what=cell.what))
            continue
        known = {p.name: p for p in about.settings}
        told = []
        for name, value in line.settings.items():
            p = known.get(name)
            if p is not None and value not in (None, "", p.default):
                told.append(f"{p.words} {shown(value, p)}")
        for name, (value, whence) in line.told.items():
            p = known.get(name)
            if p is not None:
                told.append(f"{p.words} {shown(value, p)} ({whence})")
        things = [
            (f"{'in' if n == 0 else 'out'}: {thing.reference}", thing.hash[:12])
            for n, side in enumerate((line.inputs, line.outputs))
            for several in side.values()
            for thing in several
        ]
        seconds = cell.seconds if cell.state == states.DONE else line.seconds
        found.append(StepLine(about.title, cell.state, ", ".join(told), tuple(things), seconds, cell.what))
    return found
