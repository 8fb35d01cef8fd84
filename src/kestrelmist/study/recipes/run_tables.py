"""Runs as tables: one with a row for everybody, and all of a study."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ...core.table import Column, Table
from . import book as states
from .book import RunBook, books

if TYPE_CHECKING:
    from ..study import Study


def table_of(book: RunBook) -> Table:
    """One row a unit: its state ("done", "was done", "missing", "left out", "failed", "stopped"), steps done, steps
    that were done before, what went wrong, seconds, and what somebody who looked says of it."""
    named = any(name for _, _, name in book.order.units)
    columns = [
        Column("subject"),
        *([Column("run")] if named else []),
        Column("state"),
        Column("steps_done"),
        Column("steps_found_done", shown_as="found done"),
        Column("what"),
        Column("seconds", "s", 1),
        *([Column("judged")] if book.verdicts else []),
    ]
    table = Table("Recipe on all subjects", columns)
    for unit, subject, name in book.order.units:
        cells = book.cells[unit]
        counts = [sum(c.state == state for c in cells) for state in (states.DONE, states.FOUND)]
        judged = [book.verdicts.get(unit, {}).get("verdict", "")] if book.verdicts else []
        seconds = sum(c.seconds for c in cells)
        row = (book.state(unit), *counts, book.said(unit), seconds, *judged)
        table.rows.append((subject, *([name] if named else []), *row))
    return table


def runs_table(study: Study) -> Table:
    """The runs of a study, a row each."""
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
