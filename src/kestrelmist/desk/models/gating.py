"""What is plotted of a table, and the gate that is drawn on it."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from PySide6.QtCore import QObject, Signal

from ...core.errors import Trouble
from ...core.gate import Gate, figures_of, holds_figures, on_scale
from ...core.table import Table
from .session import Session

CLASS = "class"
"""The column in which classes are kept."""


class Gating(QObject):
    """A table with two of its columns and a gate. With one column alone, the plot is a histogram."""

    changed = Signal()
    """Another table or other columns are plotted."""
    gated = Signal()
    """The gate is another one, or there is none any more."""

    def __init__(self, session: Session, run: Callable[[str, dict[str, Any]], Any]):
        super().__init__(session)
        self.session, self._run = session, run
        self.table: Table | None = None
        self.key: int | None = None
        """Of the table in the study; None when it is not kept."""
        self.columns: list[str] = []
        """Those of numbers."""
        self.x = self.y = ""
        self.log_x = self.log_y = False
        self.gate: Gate | None = None
        self.inside: np.ndarray | None = None
        """Which rows the gate holds."""
        self._values: dict[tuple[str, bool], np.ndarray] = {}
        self._classes: tuple[np.ndarray, list[str]] | None = None

    def show(self, table: Table, key: int | None) -> None:
        """Another table: the columns stay where it has them."""
        self.table, self.key = table, key
        sure = {c.sure_by for c in table.columns if c.sure_by}
        at = [n for n in table.shown_columns if holds_figures(table, n) and table.columns[n].name not in sure]
        self.columns = [table.columns[n].name for n in at]
        if self.x not in self.columns:
            measured = [name for n, name in zip(at, self.columns) if table.columns[n].holds_numbers]
            self.x, self.y = (measured or self.columns or [""])[0], ""
        if self.y not in self.columns:
            self.y = ""
        self._values.clear()
        self._classes = None
        self._drop()
        self.changed.emit()

    def plot(self, x: str | None = None, y: str | None = None, **logs: bool) -> None:
        """Other columns, or other axes (`log_x`, `log_y`); a gate on others is gone. What is no column of numbers is
        passed over."""
        x, y = self.x if x is None else x, self.y if y is None else y
        if x in self.columns and y in ("", *self.columns) and ((x, y) != (self.x, self.y) or logs):
            self.x, self.y = x, y
            for name, on in logs.items():
                setattr(self, name, on)
            self._drop()
            self.changed.emit()

    def values(self, name: str, log: bool) -> np.ndarray:
        """A column along its axis."""
        assert self.table is not None
        if (name, log) not in self._values:
            self._values[name, log] = on_scale(figures_of(self.table, name), log)
        return self._values[name, log]

    def unit_of(self, name: str) -> str:
        """The heading of a column."""
        found = [] if self.table is None else [c.heading for c in self.table.columns if c.name == name]
        return found[0] if found else name

    def draw(self, places: np.ndarray) -> None:
        """A gate as it was drawn along the axes: two places of a histogram (2,), or corners (n, 2)."""
        if self.table is None or not self.x:
            return
        logs = (self.log_x, self.log_y)
        corners = np.array(places, float).reshape(len(places), -1)
        for n in range(corners.shape[1]):
            if logs[n]:
                corners[:, n] = 10.0 ** corners[:, n]
        if corners.shape[1] == 1:
            corners = np.sort(corners, 0)
        gate = Gate(self.x, self.y, tuple(map(tuple, corners.tolist())), *logs)
        try:
            self.inside = gate.inside(self.table)
        except Trouble as trouble:
            self.session.trouble.emit(str(trouble))
            return
        self.gate = gate
        self.gated.emit()

    def places(self) -> np.ndarray | None:
        """The corners of the gate along the axes."""
        if self.gate is None:
            return None
        corners = np.array(self.gate.corners, float)
        for n, log in zip(range(corners.shape[1]), (self.log_x, self.log_y)):
            corners[:, n] = on_scale(corners[:, n], log)
        return corners

    def clear(self) -> None:
        """No gate."""
        if self.gate is not None:
            self._drop()
            self.gated.emit()

    def _drop(self) -> None:
        self.gate = self.inside = None

    @property
    def count(self) -> int:
        """Rows inside."""
        return 0 if self.inside is None else int(np.count_nonzero(self.inside))

    def make_class(self, name: str) -> None:
        """Rows inside become a class, in a new table of the study."""
        if self.gate is None or not self.count:
            self.session.trouble.emit("No row lies within a gate: draw one round some points.")
            return
        if self.key is None:
            self.session.trouble.emit("This table is not kept in the study: nothing can be made of it.")
            return
        given: dict[str, Any] = {"table": self.key, "name": name, **self.gate.as_dict()}
        self._run("gate-table", given)

    @property
    def has_classes(self) -> bool:
        """Whether the table has classes, and is kept."""
        return self.key is not None and self.table is not None and CLASS in [c.name for c in self.table.columns]

    def to_labels(self) -> None:
        """Classes become a label map of the image that leads."""
        if self.has_classes:
            self._run("class-by-table", {"table": self.key})

    def classes(self) -> tuple[np.ndarray, list[str]]:
        """The number of each row's class, 0 for none, and their names; worked out once for a table."""
        if self._classes is None:
            self._classes = self._found_classes()
        return self._classes

    def _found_classes(self) -> tuple[np.ndarray, list[str]]:
        at = None if self.table is None else [c.name for c in self.table.columns]
        if self.table is None or at is None or CLASS not in at:
            return np.zeros(0 if self.table is None else self.table.count, np.intp), []
        words = ["" if v is None else str(v) for v in list(self.table.values[at.index(CLASS)])]
        names = sorted(set(words) - {""}, key=str.casefold)
        number = {name: n for n, name in enumerate(names, 1)} | {"": 0}
        return np.array([number[word] for word in words], np.intp), names
