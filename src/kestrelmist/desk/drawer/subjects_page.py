"""The subjects of the study as a table that is edited in place."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PySide6.QtCore import QAbstractTableModel, QModelIndex, Qt, QTimer
from PySide6.QtWidgets import QFileDialog, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from ...core.operation import find_operation
from ...core.subject import TOLD
from ...core.table import Column, Table
from ...study.operations.subjects import table_of
from ..models.desk_model import Desk
from ..widgets.plain_text import ask_text
from .table_view import plain_view


class SubjectsModel(QAbstractTableModel):
    """The table of subjects; a cell that is typed into runs the operation that says it."""

    def __init__(self, desk: Desk):
        super().__init__()
        self.desk, self.table = desk, Table("Subjects", [Column("subject")])

    def fill(self) -> None:
        """Read the table again."""
        self.beginResetModel()
        self.table = table_of(self.desk.study)
        self.endResetModel()

    def rowCount(self, parent: QModelIndex = QModelIndex()) -> int:
        return 0 if parent.isValid() else self.table.count

    def columnCount(self, parent: QModelIndex = QModelIndex()) -> int:
        return 0 if parent.isValid() else len(self.table.columns)

    def headerData(self, section: int, orientation, role=Qt.ItemDataRole.DisplayRole):
        if role == Qt.ItemDataRole.DisplayRole and orientation == Qt.Orientation.Horizontal:
            return self.table.columns[section].heading
        return None

    def data(self, index, role=Qt.ItemDataRole.DisplayRole):
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.EditRole):
            return str(self.table.cell(index.row(), index.column()))
        return None

    def flags(self, index):
        name = self.table.columns[index.column()].name
        typed = name == "subject" or name not in TOLD
        more = Qt.ItemFlag.ItemIsEditable if typed and not self.desk.study.read_only else Qt.ItemFlag.NoItemFlags
        return super().flags(index) | more

    def setData(self, index, value: Any, role=Qt.ItemDataRole.EditRole) -> bool:
        if role != Qt.ItemDataRole.EditRole or str(value) == self.data(index):
            return False
        subject = str(self.table.cell(index.row(), 0))
        name = self.table.columns[index.column()].name
        if name == "subject":
            self.desk.session.run("rename-subject", {"subject": subject, "name": str(value)})
        else:
            self.desk.session.run("set-subject", {"subject": subject, "column": name, "value": str(value)})
        return True


class SubjectsPage(QWidget):
    """The table, and what may be done with all of it."""

    def __init__(self, desk: Desk):
        super().__init__()
        self.desk, self.model = desk, SubjectsModel(desk)
        self.view = plain_view(24)
        self.view.setModel(self.model)
        self.view.setEditTriggers(self.view.EditTrigger.DoubleClicked | self.view.EditTrigger.EditKeyPressed)
        self.view.setAccessibleName("Subjects")
        self.view.horizontalHeader().setStretchLastSection(True)
        row = QHBoxLayout()
        self.add, self.read, self.write = QPushButton("Add a column…"), QPushButton("Read…"), QPushButton("Write…")
        self.read.setToolTip("Take what a table of participants says")
        self.write.setToolTip("Write the subjects as a table of participants")
        for button, do in ((self.add, self._add), (self.read, self._read), (self.write, self._write)):
            button.setProperty("kind", "small")
            button.clicked.connect(do)
            row.addWidget(button)
        row.addStretch(1)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        column.addLayout(row)
        column.addWidget(self.view, 1)
        self._soon = QTimer(self, singleShot=True, interval=0)  # when the editor has gone
        self._soon.timeout.connect(self._moved)
        self.view.itemDelegate().closeEditor.connect(lambda *_: self._soon.start())
        desk.session.shelf_changed.connect(self._moved)
        desk.session.history_changed.connect(self._moved)

    def fill(self) -> None:
        """Read the table again."""
        self.model.fill()
        self.view.resizeColumnsToContents()

    def _moved(self) -> None:
        # not under what is being typed: it is for the row where it was begun
        if self.isVisible() and self.view.state() != self.view.State.EditingState:
            self.fill()

    def _add(self) -> None:
        name = ask_text(self, "Add a column", "What is it called, such as age or group?")
        if name and name.strip() and self.model.table.count:
            row = max(self.view.currentIndex().row(), 0)
            subject = str(self.model.table.cell(row, 0))
            words = f"{name.strip()} of {subject}; that of others is typed in the table"
            value = ask_text(self, "Add a column", words)
            if value:
                self.desk.session.run("set-subject", {"subject": subject, "column": name, "value": value})

    def _read(self) -> None:
        path = QFileDialog.getOpenFileName(self, "Read a table of participants", str(Path.home()), "*.tsv *.csv")[0]
        if path:
            self.desk.session.run(find_operation("import-participants").name, {"file": path})

    def _write(self) -> None:
        start = str(Path.home() / "participants.tsv")
        path = QFileDialog.getSaveFileName(self, "Write a table of participants", start, "*.tsv *.csv")[0]
        if path:  # the dialog has asked whether it may be replaced
            self.desk.session.run("export-participants", {"to": path, "replace": True})
