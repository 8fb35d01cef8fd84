"""Tidy tables: one value a row, or columns that name their units."""

from __future__ import annotations

import csv
import io
import math
from dataclasses import dataclass, field
from pathlib import Path

from .quantity import pretty_unit
from .safe_write import written_whole


@dataclass(frozen=True)
class Column:
    """A table column. `unit` is "" for text and counts; `digits` are decimals to show; a `hidden` column is kept in
    files but not shown; `shown_as` is a shorter name for the screen."""

    name: str
    unit: str = ""
    digits: int | None = None
    hidden: bool = False
    shown_as: str = ""

    @property
    def heading(self) -> str:
        name = self.shown_as or self.name.replace("_", " ")
        return f"{name} ({pretty_unit(self.unit)})" if self.unit else name


@dataclass
class Table:
    """Rows of values under named columns."""

    title: str
    columns: list[Column]
    rows: list[tuple] = field(default_factory=list)

    def column(self, name: str) -> list:
        """All values of a column."""
        at = [c.name for c in self.columns].index(name)
        return [row[at] for row in self.rows]

    @property
    def shown_columns(self) -> list[int]:
        """Indices of the columns a person sees."""
        return [n for n, c in enumerate(self.columns) if not c.hidden]

    def shown(self, row: int, column: int) -> str:
        """A cell as a person reads it."""
        value, kind = self.rows[row][column], self.columns[column]
        if value is None or (isinstance(value, float) and not math.isfinite(value)):
            return "–"
        if isinstance(value, float) and kind.digits is not None:
            return f"{value:,.{kind.digits}f}".replace(",", " ").replace("-", "−")
        return f"{value:,}".replace(",", " ") if isinstance(value, int) else str(value)

    def as_records(self) -> list[dict]:
        """One dict a row, with a `<name>_unit` beside each column that has a unit."""
        return [{key: value for column, cell in zip(self.columns, row)
                 for key, value in ((column.name, cell), *(((f"{column.name}_unit", column.unit),) if column.unit else ()))}
                for row in self.rows]

    def to_csv(self) -> str:
        """CSV text, full precision, a unit column after each column that has a unit."""
        heads = [name for c in self.columns for name in ((c.name, f"{c.name}_unit") if c.unit else (c.name,))]
        out = io.StringIO()
        writer = csv.writer(out, lineterminator="\n")
        writer.writerow(heads)
        for record in self.as_records():
            writer.writerow(["" if record[h] is None else record[h] for h in heads])
        return out.getvalue()

    def save_csv(self, path: str | Path) -> None:
        with written_whole(path) as stream:
            stream.write(self.to_csv().encode())

    def as_dict(self) -> dict:
        return {"title": self.title, "columns": [[c.name, c.unit, c.digits, c.hidden, c.shown_as] for c in self.columns],
                "rows": [list(row) for row in self.rows]}

    @classmethod
    def from_dict(cls, facts: dict) -> Table:
        return cls(facts["title"], [Column(*c) for c in facts["columns"]], [tuple(r) for r in facts["rows"]])
