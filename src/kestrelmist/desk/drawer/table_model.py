"""A table as Qt shows it: any number of rows, sorted and searched without touching the table itself."""

from __future__ import annotations

from typing import Any

import numpy as np
from PySide6.QtCore import QAbstractTableModel, QModelIndex, Qt

from ...core.table import Table

SMALL = 2_000
"""Cells that are searched as they are; for more a text a row is made once, beside the window."""


class TableModel(QAbstractTableModel):
    """Shows a Table; numbers stand right, text left. `rows` are the numbers of the rows that are shown, in order."""

    def __init__(self, table: Table | None = None):
        super().__init__()
        self.table = table or Table("", [])
        self.rows = np.arange(self.table.count)
        self.texts: Any = None
        self._found: np.ndarray | None = None
        self._order: np.ndarray | None = None
        self._kept: np.ndarray | None = None

    def show(self, table: Table) -> None:
        self.beginResetModel()
        self.table, self.texts, self._found, self._order, self._kept = table, None, None, None, None
        self.rows = np.arange(table.count)
        self.endResetModel()

    def rowCount(self, parent: QModelIndex = QModelIndex()) -> int:
        return 0 if parent.isValid() else len(self.rows)

    def columnCount(self, parent: QModelIndex = QModelIndex()) -> int:
        return 0 if parent.isValid() else len(self.table.shown_columns)

    def headerData(self, section: int, orientation, role=Qt.ItemDataRole.DisplayRole):
        if role == Qt.ItemDataRole.DisplayRole and orientation == Qt.Orientation.Horizontal:
            return self.table.columns[self.table.shown_columns[section]].heading
        return None

    def data(self, index, role=Qt.ItemDataRole.DisplayRole):
        if role == Qt.ItemDataRole.DisplayRole:
            return self.table.shown(int(self.rows[index.row()]), self.table.shown_columns[index.column()])
        if role == Qt.ItemDataRole.TextAlignmentRole:
            at = self.table.shown_columns[index.column()]
            value = self.table.cell(int(self.rows[index.row()]), at)
            if isinstance(value, (int, float)) or (value is None and self.table.columns[at].holds_numbers):
                return int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        return None

    def sort(self, column: int, order=Qt.SortOrder.AscendingOrder) -> None:
        """Sort by a shown column; -1 gives back the order of the table."""
        falling = order == Qt.SortOrder.DescendingOrder
        shown = self.table.shown_columns
        self._order = self.table.order_by(shown[column], falling) if 0 <= column < len(shown) else None
        self._arrange()

    def search(self, word: str) -> None:
        """Show only rows with a word in one of the shown columns; all when it is empty."""
        self._found = None
        if word:
            self._found = self._with(word)
        self._arrange()

    def keep(self, rows: np.ndarray | None) -> None:
        """Show only rows of which an array of yes and no says so; all when it is None."""
        if rows is not self._kept:
            self._kept = rows
            self._arrange()

    @property
    def large(self) -> bool:
        """Whether searching wants `texts`, which are better made beside the window."""
        return self.table.count * max(1, len(self.table.shown_columns)) > SMALL

    def _with(self, word: str) -> np.ndarray:
        if self.large or self.texts is not None:
            from ...formats.table_files import rows_with, search_texts

            if self.texts is None:
                self.texts = search_texts(self.table)
            return rows_with(self.texts, word)
        wanted = word.casefold()
        columns = self.table.shown_columns
        fits = [any(wanted in self.table.shown(r, c).casefold() for c in columns) for r in range(self.table.count)]
        return np.flatnonzero(fits)

    def _arrange(self) -> None:
        rows = self._order if self._order is not None else np.arange(self.table.count)
        if self._found is not None:
            keep = np.zeros(self.table.count, bool)
            keep[self._found] = True
            rows = rows[keep[rows]]
        if self._kept is not None:
            rows = rows[self._kept[rows]]
        self.beginResetModel()
        self.rows = rows
        self.endResetModel()
