"""Groups of rows compared: mean, spread, number and confidence interval of each quantity in each group."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Annotated, Any

import numpy as np

from ...core.errors import Trouble
from ...core.gate import figures_of
from ...core.operation import operation
from ...core.parameter import Between
from ...core.table import Column, Table

MOST = 20_000
"""Groups that are told."""
PEOPLE = ("subject", "participant_id")
"""Columns that tell whose a row is."""


@operation(
    "measure",
    "Compare groups",
    name="compare-groups",
    keywords="groups mean sd n confidence interval summary statistics average by subject group time pivot aggregate",
    called={"values": "Quantities", "by": "Groups by", "each": "Average first within", "more": "And tables",
            "participants": "Participants", "confidence": "Confidence"},
    rare="each more participants confidence",
    group="Tables",
    methods="Groups were compared by means with {confidence} % confidence intervals (Student’s t)",
    cites=("Student 1908",),
)  # fmt: skip
def compare_groups(
    table: Table,
    values: str = "",
    by: str = "subject",
    *,
    each: str = "",
    more: list[Table] | None = None,
    participants: Table | None = None,
    confidence: Annotated[float, Between(50, 99.99)] = 95.0,
) -> Table:
    """Mean, standard deviation, number and confidence interval of quantities, group by group.

    The interval of a mean is that of Student's t (Biometrika 6, 1908). Cells of one animal are not as many animals:
    with a column in `each`, rows are averaged within it first, and the number counts these averages.

    Parameters
    ----------
    values : text
        Columns of numbers with commas between; all that have digits when left out.
    by : text
        Columns that tell groups apart, with commas between; "" for all rows together.
    each : text
        Average within each of this column first, such as subject.
    more : tables
        Others whose rows join in, by the names of columns.
    participants : table
        Further columns of subjects, such as group or sex: its column subject or participant_id is that of the rows.
    confidence : %
        Of the interval.

    Returns
    -------
    Table
        A row a group and quantity: n, mean, SD, both ends of the interval, median, and rows without a number.

    Raises
    ------
    Trouble
        When a column is not there or holds words, or units of a column differ between tables.
    """
    tables = [table, *(more or ())]
    named = [word.strip() for word in by.split(",") if word.strip()]
    wanted = [word.strip() for word in values.split(",") if word.strip()]
    if not wanted:
        wanted = [table.columns[n].name for n in table.measured_columns]
        wanted = [name for name in wanted if name not in named]
        if not wanted:
            raise Trouble(f"“{table.title}” has no columns of numbers", "choose another table")
    _require_one_unit(tables, wanted)
    keys = [_words(tables, name, participants) for name in named]
    inner = _words(tables, each.strip(), participants) if each.strip() else None
    group, groups = _grouped(keys, sum(one.count for one in tables))
    if len(groups) > MOST:
        raise Trouble(f"These columns tell {len(groups)} groups apart", "choose columns that many rows share")
    columns = {c.name: c for c in table.columns}
    made = [Column(name) for name in named] + [
        Column("quantity"), Column("unit"), Column("n"), Column("mean", figures=6, sure_by="sem"),
        Column("sd", shown_as="SD", figures=3), Column("sem", figures=3, hidden=True), Column("low", figures=5),
        Column("high", figures=5), Column("median", figures=5), Column("left_out"),
    ]  # fmt: skip
    rows: list[tuple[Any, ...]] = []
    for name in wanted:
        told = np.concatenate([figures_of(one, name) for one in tables])
        order = np.argsort(group, kind="stable")
        ends = np.searchsorted(group[order], np.arange(len(groups) + 1))
        unit = columns[name].unit if name in columns else ""
        for n, words in enumerate(groups):
            mine = order[ends[n] : ends[n + 1]]
            counted = mine[np.isfinite(told[mine])]
            figures = told[counted]
            if inner is not None:
                figures = _averages(figures, inner[counted])
            rows.append((*words, name, unit, *summary(figures, confidence), len(mine) - len(counted)))
    what = f" by {', '.join(named)}" if named else ""
    unsaid = sum(not all(row) for row in zip(*keys))
    what += f" ({unsaid} rows say none)" if unsaid else ""
    within = f", means within {each.strip()}" if inner is not None else ""
    title = f"{table.title.partition(' · ')[0]}{what}{within}: mean and {confidence:g} % interval"
    return Table(title, made, rows)


def summary(figures: np.ndarray, confidence: float = 95.0) -> tuple:
    """n, mean, SD, standard error, both ends of the interval of the mean, median; None where too few tell it."""
    from scipy.special import stdtrit

    n = len(figures)
    if not n:
        return 0, None, None, None, None, None, None
    mean, median = float(np.mean(figures)), float(np.median(figures))
    if n == 1:
        return 1, mean, None, None, None, None, median
    sd = float(np.std(figures, ddof=1))
    error = sd / math.sqrt(n)
    half = float(stdtrit(n - 1, 0.5 + confidence / 200)) * error
    return n, mean, sd, error, mean - half, mean + half, median


def _averages(figures: np.ndarray, inner: np.ndarray) -> np.ndarray:
    """Means within each of a column's values."""
    _, which = np.unique(inner, return_inverse=True)
    return np.bincount(which, figures) / np.bincount(which) if len(figures) else figures


def _require_one_unit(tables: Sequence[Table], names: Sequence[str]) -> None:
    for name in names:
        units = {c.unit for one in tables for c in one.columns if c.name == name}
        if len(units) > 1:
            told = " and ".join(sorted(unit or "no unit" for unit in units))
            raise Trouble(f"Column “{name}” is in {told}", "measure both in one unit, or compare other columns")


def _words(tables: Sequence[Table], name: str, participants: Table | None) -> np.ndarray:
    """A column of several tables as words, (rows); of the participants where the tables have none of the name."""
    found = []
    for one in tables:
        at = next((n for n, c in enumerate(one.columns) if c.name.casefold() == name.casefold()), None)
        if at is not None:
            found.append(np.array([_word(v) for v in list(one.values[at])], object))
        elif participants is not None:
            found.append(_of_participants(one, name, participants))
        else:
            there = ", ".join(c.name for c in one.columns if not c.holds_numbers)
            what = f"“{one.title}” has no column “{name[:40]}”"
            raise Trouble(what, f"choose one of {there}, or give a table of participants that has it")
    return np.concatenate(found) if found else np.empty(0, object)


def _of_participants(table: Table, name: str, participants: Table) -> np.ndarray:
    names = {c.name.casefold(): n for n, c in enumerate(participants.columns)}
    who = next((names[one] for one in PEOPLE if one in names), None)
    mine = next((n for n, c in enumerate(table.columns) if c.name in PEOPLE), None)
    if who is None or name.casefold() not in names:
        raise Trouble(
            f"The participants have no column “{name[:40] if who is not None else 'participant_id'}”",
            "choose a column they have",
        )
    if mine is None:
        raise Trouble(f"“{table.title}” does not say whose its rows are", "measure it anew, or choose other columns")
    known = {_bare(row[who]): _word(row[names[name.casefold()]]) for row in participants.rows}
    return np.array([known.get(_bare(v), "") for v in list(table.values[mine])], object)


def _bare(subject: Any) -> str:
    """A subject's name without what BIDS puts before it."""
    return _word(subject).removeprefix("sub-").casefold()


def _word(value: Any) -> str:
    if value is None or (isinstance(value, float) and math.isnan(value)):
        return ""
    return f"{value:g}" if isinstance(value, float) else str(value)


def _grouped(keys: Sequence[np.ndarray], count: int) -> tuple[np.ndarray, list[tuple[str, ...]]]:
    """Which group each row is of, and the words of each group, in order."""
    if not keys:
        return np.zeros(count, np.intp), [()]
    rows = list(zip(*keys))
    groups = sorted(set(rows), key=lambda row: [_in_order(word) for word in row])
    number = {row: n for n, row in enumerate(groups)}
    return np.array([number[row] for row in rows], np.intp), groups


def _in_order(word: str) -> tuple[int, float, str]:
    """Numbers by value, then words."""
    try:
        return 0, float(word), word
    except ValueError:
        return 1, 0.0, word.casefold()
