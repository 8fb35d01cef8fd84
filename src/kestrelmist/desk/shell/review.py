"""What an operation wants a person to look at before it does anything."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QDialog, QHBoxLayout, QHeaderView, QLineEdit, QPushButton, QVBoxLayout, QWidget

from ...core.errors import Asks
from ..drawer.table_model import TableModel
from ..drawer.table_view import plain_view
from ..widgets.plain_text import Words


class Review(QDialog):
    """A list to look through; it goes on when the person says that they have.

    Parameters
    ----------
    asks : Asks
        What is asked, with its list.
    again : callable
        Runs the operation again with more settings.
    given : dict
        The settings it was run with.
    """

    def __init__(
        self, asks: Asks, again: Callable[[dict[str, Any]], Any], given: dict[str, Any], parent: QWidget | None = None
    ):
        super().__init__(parent)
        self.asks, self.again, self.before = asks, again, str(given.get(asks.more, ""))
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setWindowTitle(asks.table.title)
        self.resize(760, 520)
        self.model = TableModel(asks.table)
        self.view = plain_view(26)
        self.view.setModel(self.model)
        self.view.setAccessibleName("What is to be looked at")
        self.view.setWordWrap(False)
        header = self.view.horizontalHeader()
        header.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        header.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        sentence = Words(f"{asks.what}. Look through them: what tells whose images they are must go.")
        sentence.setWordWrap(True)
        self.words, self.take_out = QLineEdit(), QPushButton("Take out")
        self.words.setPlaceholderText("Further words to take out, with commas between")
        self.words.setAccessibleName("Words to take out")
        self.take_out.setEnabled(False)
        self.words.textChanged.connect(lambda text: self.take_out.setEnabled(bool(text.strip())))
        self.words.returnPressed.connect(self._take_out)
        self.take_out.clicked.connect(self._take_out)
        self.keep, leave = QPushButton("Keep these texts"), QPushButton("Cancel")
        self.keep.setProperty("kind", "primary")
        self.keep.clicked.connect(self._keep)
        leave.clicked.connect(self.reject)
        for button in (self.take_out, self.keep, leave):
            button.setAutoDefault(False)
        column = QVBoxLayout(self)
        column.setContentsMargins(16, 16, 16, 16)
        column.setSpacing(12)
        column.addWidget(sentence)
        column.addWidget(self.view, 1)
        if asks.more:
            row = QHBoxLayout()
            row.addWidget(self.words, 1)
            row.addWidget(self.take_out)
            column.addLayout(row)
        row = QHBoxLayout()
        row.addStretch(1)
        row.addWidget(leave)
        row.addWidget(self.keep)
        column.addLayout(row)

    def _keep(self) -> None:
        self.accept()
        self.again({self.asks.setting: self.asks.answer})

    def _take_out(self) -> None:
        words = self.words.text().strip()
        if words:
            self.accept()
            self.again({self.asks.more: ", ".join(filter(None, (self.before, words)))})
