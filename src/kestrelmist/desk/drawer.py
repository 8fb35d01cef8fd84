"""The Drawer above the Readout: tables of results, and the logbook."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QSortFilterProxyModel, Qt
from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import (QApplication, QComboBox, QFileDialog, QHBoxLayout, QHeaderView, QLineEdit, QPushButton, QStackedWidget, QTableView,
                               QToolButton, QVBoxLayout, QWidget)

from ..core.errors import Trouble
from ..core.table import Column, Table
from ..study.logbook import as_yaml
from .desk_model import Desk
from .table_view import plain_view
from .theme.theme import icon


LOW, HIGH = 208, 340
"""Height in pixels; facts, of which there are many, get more."""


class TableModel(QAbstractTableModel):
    """Shows a Table; numbers stand right, text left."""

    def __init__(self, table: Table | None = None):
        super().__init__()
        self.table = table or Table("", [])

    def show(self, table: Table) -> None:
        self.beginResetModel()
        self.table = table
        self.endResetModel()

    def rowCount(self, parent=QModelIndex()) -> int:
        return len(self.table.rows)

    def columnCount(self, parent=QModelIndex()) -> int:
        return len(self.table.shown_columns)

    def headerData(self, section, orientation, role=Qt.ItemDataRole.DisplayRole):
        if role == Qt.ItemDataRole.DisplayRole and orientation == Qt.Orientation.Horizontal:
            return self.table.columns[self.table.shown_columns[section]].heading
        return None

    def data(self, index, role=Qt.ItemDataRole.DisplayRole):
        column = self.table.shown_columns[index.column()]
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.ToolTipRole):
            return self.table.shown(index.row(), column)
        if role == Qt.ItemDataRole.TextAlignmentRole and isinstance(self.table.rows[index.row()][column], (int, float)):
            return int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        return None


def _table_view(model: TableModel) -> QTableView:
    """A view of a table of which only the rows with a searched word are shown; Ctrl+C copies the chosen rows."""
    view, found = plain_view(24), QSortFilterProxyModel()
    found.setSourceModel(model)
    found.setFilterKeyColumn(-1)
    found.setFilterCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
    found.setParent(view)
    view.setModel(found)
    copy = QShortcut(QKeySequence.StandardKey.Copy, view)
    copy.setContext(Qt.ShortcutContext.WidgetShortcut)
    copy.activated.connect(lambda: copy_rows(view))
    view.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
    view.horizontalHeader().setStretchLastSection(True)
    return view


def copy_rows(view: QTableView) -> None:
    """Put the chosen rows, or all that are shown, on the clipboard as lines with tabs."""
    model = view.model()
    rows = sorted({i.row() for i in view.selectedIndexes()}) or range(model.rowCount())
    QApplication.clipboard().setText("\n".join("\t".join(str(model.index(r, c).data()) for c in range(model.columnCount())) for r in rows))


class Drawer(QWidget):
    """Closed until there is something to show."""

    def __init__(self, desk: Desk, parent=None):
        super().__init__(parent)
        self.setObjectName("drawer")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(LOW)
        self.desk = desk
        self.tables: list[Table] = []
        self.results, self.logbook = TableModel(), TableModel()
        self.result_view, self.logbook_view = _table_view(self.results), _table_view(self.logbook)
        self.pages = QStackedWidget()
        self.pages.addWidget(self.result_view)
        self.pages.addWidget(self.logbook_view)
        self.which = QComboBox()
        self.which.setMinimumWidth(230)
        self.which.setAccessibleName("Table to show")
        self.show_tables, self.show_logbook = QPushButton("Tables"), QPushButton("Logbook")
        self.save, self.copy = QPushButton("Save as CSV…"), QPushButton("Copy as YAML")
        self.shut = QToolButton()
        self.shut.setToolTip("Close the Drawer")
        self.shut.setAccessibleName("Close the Drawer")
        top = QHBoxLayout()
        top.setSpacing(6)
        for button in (self.show_tables, self.show_logbook):
            button.setCheckable(True)
            button.setProperty("kind", "small")
            top.addWidget(button)
        top.addSpacing(10)
        top.addWidget(self.which)
        self.search = QLineEdit()
        self.search.setPlaceholderText("Search")
        self.search.setAccessibleName("Search in the table")
        self.search.setClearButtonEnabled(True)
        self.search.setMaximumWidth(170)
        self.search.textChanged.connect(lambda text: [view.model().setFilterFixedString(text) for view in (self.result_view, self.logbook_view)])
        top.addWidget(self.search)
        top.addStretch()
        for button in (self.save, self.copy):
            button.setProperty("kind", "small")
            top.addWidget(button)
        top.addWidget(self.shut)
        column = QVBoxLayout(self)
        column.setContentsMargins(10, 6, 10, 8)
        column.setSpacing(6)
        column.addLayout(top)
        column.addWidget(self.pages, 1)
        self.show_tables.clicked.connect(lambda: self.open_page("tables"))
        self.show_logbook.clicked.connect(lambda: self.open_page("logbook"))
        self.shut.clicked.connect(self.hide)
        self.which.activated.connect(self._show)
        self.save.clicked.connect(self.ask_and_save)
        self.copy.clicked.connect(self.copy_yaml)
        desk.table_made.connect(self.add_table)
        desk.logbook_changed.connect(self.fill_logbook)
        for table in desk.study.tables():
            self._list(table, last=True)
        if self.tables:
            self.results.show(self.tables[0])
        self.fill_logbook()
        self.dress()
        self.hide()

    def dress(self) -> None:
        self.shut.setIcon(icon("x", 16))

    def open_page(self, page: str) -> None:
        """Open the Drawer on "tables" or "logbook"."""
        tables = page == "tables"
        self.pages.setCurrentIndex(0 if tables else 1)
        self.show_tables.setChecked(tables)
        self.show_logbook.setChecked(not tables)
        self.which.setVisible(tables)
        self.save.setVisible(tables)
        self.save.setEnabled(bool(self.tables))
        self.setFixedHeight(HIGH if tables and self.results.table.title.startswith("Facts") else LOW)
        self.copy.setVisible(not tables)
        self.show()

    def add_table(self, table: Table) -> None:
        """A new result: listed first and shown."""
        self._list(table)
        self.which.setCurrentIndex(0)
        self.search.clear()
        self.results.show(table)
        self.open_page("tables")

    def _show(self, n: int) -> None:
        self.results.show(self.tables[n])
        self.open_page("tables")

    def _list(self, table: Table, last: bool = False) -> None:
        at = len(self.tables) if last else 0
        self.tables.insert(at, table)
        self.which.insertItem(at, table.title)

    def fill_logbook(self) -> None:
        table = Table("Logbook", [Column("when"), Column("took", "s", 1), Column("step")])
        for entry in reversed(self.desk.study.logbook.entries()):
            table.rows.append((entry.made[:16].replace("T", " "), entry.seconds, entry.sentence))
        self.logbook.show(table)

    def copy_yaml(self) -> None:
        """Put the logbook on the clipboard as a recipe."""
        QApplication.clipboard().setText(as_yaml(self.desk.study.logbook.entries()))
        self.desk.said.emit("The logbook is on the clipboard as a recipe.")

    def ask_and_save(self) -> None:
        start = str(Path.home() / f"{self.results.table.title}.csv")
        name, _ = QFileDialog.getSaveFileName(self, "Save the table", start, "Table (*.csv)")
        if name:
            self.save_table(Path(name))

    def save_table(self, path: Path) -> None:
        """Write the table shown as CSV with unit columns."""
        try:
            self.results.table.save_csv(path if path.suffix else path.with_suffix(".csv"))
        except Trouble as trouble:
            self.desk.trouble.emit(str(trouble))
            return
        self.desk.said.emit(f"Saved: {path.name}")
