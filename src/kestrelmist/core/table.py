"""Tidy tables: one value a row, or columns that name their units."""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Iterable, Sequence
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

import numpy as np

from .cells import harmless
from .quantity import pretty_unit
from .safe_write import written_whole

MOST_DECIMALS = 9
"""Behind the point; what needs more is shown by its power of ten."""
SMALL = 1e-4
"""A number below is shown by its power of ten where it has many decimals."""
FIGURES = 2
"""Of an uncertainty that are told."""
UNCERTAINTY = "_uncertainty"
"""What stands behind the name of a column in that of its uncertainty."""
SORTED_BY = 64
"""Letters of a text that decide its place when a column is sorted."""


@dataclass(frozen=True)
class Column:
    """A table column. `unit` is "" for text and counts; `digits` are decimals to show, or `figures` how many
    figures that count, where values of one column are of several kinds; a `hidden` column is kept in files but not
    shown; `shown_as` is a shorter name for the screen. `sure_by` names the column that holds the standard or expanded
    uncertainty of the values, `sure_times` what that is to be taken times: a value is then shown to the decimals to
    which two figures of its uncertainty go (JCGM 100:2008, 7.2.6)."""

    name: str
    unit: str = ""
    digits: int | None = None
    hidden: bool = False
    shown_as: str = ""
    figures: int | None = None
    sure_by: str = ""
    sure_times: float = 1.0

    @property
    def heading(self) -> str:
        """What stands over the column on the screen: its name and unit."""
        name = self.shown_as or self.name.replace("_", " ")
        return f"{name} ({pretty_unit(self.unit)})" if self.unit else name

    @property
    def holds_numbers(self) -> bool:
        """Whether it is known to be one of numbers."""
        return self.digits is not None or self.figures is not None

    def shown(self, value: Any, uncertainty: Any = None) -> str:
        """A value of this column as a person reads it, and as far as its `uncertainty` allows."""
        if value is None or (isinstance(value, float) and not math.isfinite(value)):
            return "–"
        digits = self.digits if self.figures is None else _decimals(value, self.figures)
        if isinstance(uncertainty, float) and math.isfinite(uncertainty) and uncertainty > 0:
            digits = _decimals(uncertainty * self.sure_times, FIGURES)
            if isinstance(value, float) and digits is not None and digits > MOST_DECIMALS:
                if 0 < abs(value) < SMALL:
                    return _spaced(f"{value:.{max(0, digits + math.floor(math.log10(abs(value))))}e}")
                digits = MOST_DECIMALS if value else 0
        if isinstance(value, float) and self.figures is not None and digits is not None and digits > MOST_DECIMALS:
            return _spaced(f"{value:.{self.figures - 1}e}")
        if isinstance(value, float) and digits is not None:
            return _spaced(f"{value:,.{digits}f}")
        return _spaced(f"{value:,}") if isinstance(value, int) and not isinstance(value, bool) else str(value)


def _decimals(value: Any, figures: int) -> int | None:
    """Decimals that show so many figures of a number; none is left out in front of the point."""
    if not isinstance(value, float):
        return None
    return max(0, figures - 1 - math.floor(math.log10(abs(value)))) if value else 0


def _spaced(text: str) -> str:
    return text.replace(",", " ").replace("-", "−")


class Table:
    """Rows of values under named columns.

    Parameters
    ----------
    title : str
    columns : list of Column
    rows : list of tuples
        Values, one a column: numbers, text, None where there is none.
    source : callable, optional
        Gives the columns' values as a list of sequences when they are first asked for, in place of `rows`.
    count : int, optional
        Rows that `source` gives.

    Examples
    --------
    >>> table = Table("Ears", [Column("side"), Column("length", "mm", 1)], [("left", 9.25), ("right", 9.5)])
    >>> table.column("length")
    [9.25, 9.5]
    >>> print(table.to_csv(), end="")
    side,length,length_unit
    left,9.25,mm
    right,9.5,mm
    """

    def __init__(
        self, title: str, columns: Iterable[Column], rows: Iterable[tuple] = (), source=None, count: int | None = None
    ):
        self.title, self.columns = title, list(columns)
        self._rows: list[tuple] | None = None if source is not None else list(rows)
        self._source, self._count = source, count
        self._values: list[Sequence] | None = None

    def __repr__(self) -> str:
        return f"<Table {self.title!r} {self.count} × {len(self.columns)}>"

    @property
    def count(self) -> int:
        """How many rows there are."""
        if self._rows is not None:
            return len(self._rows)
        return self._count if self._count is not None else len(self.values[0]) if self.columns else 0

    @property
    def lazy(self) -> bool:
        """Whether its values are held, or given, column by column."""
        return self._rows is None

    @property
    def rows(self) -> list[tuple]:
        """All rows; what is added to the list is added to the table."""
        if self._rows is None:
            self._rows = list(zip(*(_plain(values) for values in self.values)))
            self._values = self._source = None
        return self._rows

    @rows.setter
    def rows(self, rows: Iterable[tuple]) -> None:
        self._rows, self._values, self._source = list(rows), None, None

    @property
    def values(self) -> list[Sequence]:
        """The values of each column."""
        if self._rows is not None:
            return [list(column) for column in zip(*self._rows)] or [[] for _ in self.columns]
        if self._values is None:
            self._values = list(self._source())
        return self._values

    def column(self, name: str) -> list:
        """All values of a column."""
        at = [c.name for c in self.columns].index(name)
        if self._rows is not None:
            return [row[at] for row in self._rows]
        return _plain(self.values[at])

    def cell(self, row: int, column: int) -> Any:
        """The value of a cell, as it is."""
        if self._rows is not None:
            return self._rows[row][column]
        value = self.values[column][row]
        return value.item() if isinstance(value, np.generic) else value

    @property
    def measured_columns(self) -> list[int]:
        """Indices of the columns of measured numbers: those whose digits are said, or that hold numbers with a point,
        as files have them; not those that tell how sure others are."""
        sure = self.uncertainties
        return [n for n, c in enumerate(self.columns) if c.name not in sure and (c.holds_numbers or self._points(n))]

    @property
    def uncertainties(self) -> set[str]:
        """Names of the columns that tell how sure others are: as these say, or in files that do not, by their own."""
        names = {column.name for column in self.columns}
        told = {f"{name}{UNCERTAINTY}" for name in names if f"{name}{UNCERTAINTY}" in names}
        return told | {column.sure_by for column in self.columns if column.sure_by}

    def _points(self, at: int) -> bool:
        values = self.values[at] if self.lazy else [row[at] for row in self._rows or ()]
        if isinstance(values, np.ndarray) and values.dtype.kind in "fiub":
            return values.dtype.kind == "f"
        some = [v for v in values if v is not None and v != ""]
        return bool(some) and all(isinstance(v, float) for v in some)

    @property
    def shown_columns(self) -> list[int]:
        """Indices of the columns a person sees."""
        return [n for n, c in enumerate(self.columns) if not c.hidden]

    def shown(self, row: int, column: int) -> str:
        """A cell as a person reads it."""
        shown = self.columns[column]
        by = self._places.get(shown.sure_by) if shown.sure_by else None
        return shown.shown(self.cell(row, column), None if by is None else self.cell(row, by))

    @property
    def _places(self) -> dict[str, int]:
        """Where columns are, by name."""
        return {column.name: n for n, column in enumerate(self.columns)}

    def order_by(self, column: int, falling: bool = False) -> np.ndarray:
        """Row numbers in the order of a column: numbers by value, text by its letters; empty cells come last."""
        values = self.values[column] if self._rows is None else [row[column] for row in self._rows]
        keys, empty = _sort_keys(values)
        order = np.argsort(keys, kind="stable")
        if falling:
            order = order[::-1]
        return np.concatenate([order[~empty[order]], order[empty[order]]])

    def as_records(self) -> list[dict]:
        """One dict a row, with a `<name>_unit` beside each column that has a unit."""
        return [
            {
                key: value
                for column, cell in zip(self.columns, row)
                for key, value in (
                    (column.name, cell),
                    *(((f"{column.name}_unit", column.unit),) if column.unit else ()),
                )
            }
            for row in self.rows
        ]

    def to_csv(self) -> str:
        """CSV text, full precision, a unit column after each column that has a unit. Text that a spreadsheet would work
        out is made harmless."""
        out = io.StringIO()
        self._write_csv(out)
        return out.getvalue()

    def _write_csv(self, out) -> None:
        writer = csv.writer(out, lineterminator="\n")
        heads = [name for c in self.columns for name in ((c.name, f"{c.name}_unit") if c.unit else (c.name,))]
        writer.writerow([harmless(head) for head in heads])
        units = [c.unit for c in self.columns]
        for row in zip(*(_plain(values) for values in self.values)) if self._rows is None else self._rows:
            cells: list[Any] = []
            for cell, unit in zip(row, units):
                cells.append(
                    "" if cell is None or cell != cell else harmless(cell)
                )  # a number that is none is an empty cell
                if unit:
                    cells.append(unit)
            writer.writerow(cells)

    def save_csv(self, path: str | Path) -> None:
        """Write the table as CSV; raises Trouble when the place cannot be written."""
        with written_whole(path) as stream:
            text = io.TextIOWrapper(stream, "utf-8", newline="", write_through=True)
            self._write_csv(text)
            text.detach()

    def columns_as_list(self) -> list[dict]:
        """The columns as plain values, for JSON."""
        return [asdict(c) for c in self.columns]

    def as_dict(self) -> dict:
        """The whole table as plain values, for JSON."""
        return {"title": self.title, "columns": self.columns_as_list(), "rows": [list(row) for row in self.rows]}

    @classmethod
    def from_dict(cls, facts: dict) -> Table:
        """Read back what `as_dict` wrote; columns as lists are how older studies kept them."""
        columns = [Column(**c) if isinstance(c, dict) else Column(*c) for c in facts["columns"]]
        return cls(facts["title"], columns, [tuple(r) for r in facts["rows"]])


def _plain(values: Sequence) -> list:
    """Python's own numbers and texts."""
    return values.tolist() if isinstance(values, np.ndarray) else list(values)


def _sort_keys(values: Sequence) -> tuple[np.ndarray, np.ndarray]:
    """Something numpy sorts fast, and which cells are empty."""
    array = values if isinstance(values, np.ndarray) else None
    if array is not None and array.dtype.kind in "iufb":
        keys = array.astype(np.float64, copy=False)
        return keys, np.isnan(keys)
    empty = np.array([v is None or v == "" for v in values], bool)
    try:
        numbers = np.array([np.nan if e else v for v, e in zip(values, empty)], np.float64)
        if not any(isinstance(v, str) for v in values):
            return numbers, empty | np.isnan(numbers)
    except (TypeError, ValueError):
        pass
    texts = np.array(["" if e else str(v).casefold()[:SORTED_BY] for v, e in zip(values, empty)], dtype=np.str_)
    return texts, empty
