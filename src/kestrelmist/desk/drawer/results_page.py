"""The table of results, and a plot of it: what a row is of is shown, and what is shown has its row."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QItemSelectionModel, QModelIndex, Qt, QTimer
from PySide6.QtWidgets import QHBoxLayout, QTableView, QWidget

from ...core.table import Table
from ...study.items import Record
from ..models.desk_model import Desk
from ..models.gating import Gating
from .plot_panel import PlotPanel
from .row_places import place_in
from .table_model import TableModel

NUMBERS = ("number", "cell")
"""Columns that hold the numbers of labels."""
OF = "image"
"""The column that names the image that rows are of."""
SOON = 60
"""Milliseconds that a crosshair rests until its row is looked for."""


class ResultsPage(QWidget):
    """A row that is clicked goes to its place, and a point that is clicked to its row; the label under the crosshair
    has its row lit."""

    def __init__(self, desk: Desk, view_of: Callable[[TableModel], QTableView]):
        super().__init__()
        self.desk, self.session = desk, desk.session
        self.model = TableModel()
        self.view = view_of(self.model)
        self.view.setAccessibleName("Table of results")
        self.gating = Gating(desk.session, desk.run)
        self.panel = PlotPanel(self.gating)
        self.panel.hide()
        self.key: int | None = None
        line = QHBoxLayout(self)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(10)
        line.addWidget(self.view, 1)
        line.addWidget(self.panel, 1)
        self.view.clicked.connect(self.go_to_row)
        self.view.activated.connect(self.go_to_row)
        self.view.selectionModel().currentRowChanged.connect(self._stepped)
        self.panel.plot.chosen.connect(self._chosen)
        self.panel.only.connect(self._list)
        self.gating.gated.connect(self._list)
        self._soon = QTimer(self, singleShot=True, interval=SOON)
        self._soon.timeout.connect(self._light_label)
        desk.viewing.crosshair_moved.connect(self._soon.start)

    def put(self, table: Table, key: int | None) -> None:
        """Another table."""
        self.key = key
        self.view.horizontalHeader().setSortIndicator(-1, Qt.SortOrder.AscendingOrder)
        self.model.show(table)
        self.view.resizeColumnsToContents()
        if self.plotted:
            self.gating.show(table, key)

    @property
    def plotted(self) -> bool:
        """Whether the plot is open."""
        return not self.panel.isHidden()

    def set_plotted(self, on: bool) -> None:
        """Open the plot, or close it; its gate then lists all rows again."""
        self.panel.setVisible(on)
        if on:
            self.gating.show(self.model.table, self.key)
        else:
            self.gating.clear()

    def _list(self, *_) -> None:
        only = self.panel.only_inside.isChecked() and self.gating.inside is not None
        self.model.keep(self.gating.inside if only else None)

    # rows and places

    def _stepped(self, index: QModelIndex) -> None:
        """The arrow keys go from row to row, and to their places."""
        if index.isValid():
            self.panel.plot.light(int(self.model.rows[index.row()]))
            if self.view.hasFocus():
                self.go_to_row(index)

    def _chosen(self, row: int) -> None:
        """A point was clicked: its row is chosen, and its place shown."""
        index = self._choose(row)
        self.panel.plot.light(row)
        if index is not None:
            self.go_to_row(index)

    def _choose(self, row: int) -> QModelIndex | None:
        """Choose a row of the table where it is listed."""
        at = np.flatnonzero(self.model.rows == row)
        if not at.size:
            return None
        index = self.model.index(int(at[0]), 0)
        flags = QItemSelectionModel.SelectionFlag
        self.view.selectionModel().setCurrentIndex(index, flags.ClearAndSelect | flags.Rows)
        self.view.scrollTo(index, QTableView.ScrollHint.EnsureVisible)
        return index

    def _light_label(self) -> None:
        """The row of the label under the crosshair, where the table is of the image that leads."""
        viewing, table = self.desk.viewing, self.model.table
        labels, record = viewing.maps.labels, viewing.record
        if not self.isVisible() or labels is None or record is None or self.view.hasFocus():
            return
        names = [c.name for c in table.columns]
        column = next((names.index(name) for name in NUMBERS if name in names), None)
        if column is None or self._elsewhere(record) is not None or not self._of(record, names):
            return
        voxel = record.grid.nearest_voxel(viewing.crosshair)
        number = 0 if voxel is None else int(labels.data[tuple(voxel)])
        if not number:
            return
        numbers = table.values[column] if table.lazy else np.array([row[column] for row in table.rows], object)
        rows = np.flatnonzero(np.asarray(numbers) == number)
        if rows.size:
            self._choose(int(rows[0]))

    def _of(self, record: Record, names: list[str]) -> bool:
        """Whether the table says that it is of an image, or says nothing of it."""
        table = self.model.table
        if OF not in names or not table.count:
            return True
        return table.cell(0, names.index(OF)) in (record.name, None, "")

    def go_to_row(self, index: QModelIndex) -> None:
        """Show what a row is of: the volume that it names, or the place whose x, y and z it has."""
        record = self.desk.viewing.record
        row = int(self.model.rows[index.row()])
        self.panel.plot.light(row)
        place = None if record is None else place_in(self.model.table, row, record.grid)
        if record is None or place is None:
            self._go_to_volume(row)
        elif (other := self._elsewhere(record)) is not None:
            self.session.said.emit(f"The places of this table are of “{other.name}”, in another space: show that first")
        elif record.grid.nearest_voxel(place) is not None:
            self.desk.viewing.go_to(place)
        else:
            self.session.said.emit(f"The place of this row lies outside “{record.name}”")

    def _elsewhere(self, record: Record) -> Record | None:
        """The image that the table is of, where its places mean nothing on the one that leads."""
        items = self.desk.study.items
        row = items.get(self.key) if self.key is not None and self.key > 0 else None
        made_of = items.get(row.made_of) if row is not None and row.made_of is not None else None
        while made_of is not None and made_of.is_read:  # a table of a table is of what that is of
            made_of = items.get(made_of.made_of) if made_of.made_of is not None else None
        if made_of is not None and made_of.of is not None:
            made_of = items.get(made_of.of)
        if made_of is None or made_of.space is None or record.space is None or made_of.id == record.id:
            return None
        here, there = record.space.world, made_of.space.world
        return made_of if here.id and there.id and not here.is_one_with(there) else None

    def _go_to_volume(self, row: int) -> None:
        """Show the volume that a row is of, where there is a column that names one."""
        table, record = self.model.table, self.desk.viewing.record
        column = next((n for n, c in enumerate(table.columns) if c.name == "volume" and not c.unit), None)
        if column is None or record is None or not record.axes:
            return
        number = table.cell(row, column)
        if isinstance(number, (int, np.integer)) and 1 <= number <= record.axes[0].size:
            self.desk.viewing.go_along(0, int(number) - 1)
