"""Fields of a form that are more than a line: a place on disk, and an area framed on a picture."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QFileDialog, QHBoxLayout, QLineEdit, QPushButton, QVBoxLayout, QWidget

from ..desk_model import Desk


class _WithButton(QWidget):
    """A line to type in, and a button beside it."""

    def __init__(self, words: str, name: str, below: bool = False):
        super().__init__()
        self.field, self.button = QLineEdit(), QPushButton(words)
        self.button.setAccessibleName(name)
        self.button.setProperty("kind", "small")
        row = QVBoxLayout(self) if below else QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(4)
        row.addWidget(self.field, 1)
        row.addWidget(self.button)
        self.setFocusProxy(self.field)

    def text(self) -> str:
        return self.field.text()


class PathField(_WithButton):
    """A place on disk: an existing "folder" or "file", or a "new" one."""

    def __init__(self, kind: str):
        super().__init__("…", {"folder": "Choose a folder", "file": "Choose a file", "new": "Name a new file or folder"}[kind])
        self.kind = kind
        self.button.clicked.connect(self._choose)

    def _choose(self) -> None:
        start = self.field.text() or str(Path.home())
        name = (QFileDialog.getExistingDirectory(self, "Choose a folder", start) if self.kind == "folder" else
                QFileDialog.getOpenFileName(self, "Choose a file", start)[0] if self.kind == "file" else
                QFileDialog.getSaveFileName(self, "Name a new file or folder", start)[0])
        if name:
            self.field.setText(name)


class AreaField(_WithButton):
    """Column, row, columns and rows of an area; framed by hand on the lead picture, or typed."""

    framed = Signal()

    def __init__(self, desk: Desk):
        super().__init__("Frame it", "Frame an area on the picture", below=True)
        self.desk = desk
        self.field.setProperty("kind", "figures")
        self.field.setPlaceholderText("column, row, columns, rows")
        self.button.setCheckable(True)
        self.button.toggled.connect(lambda on: desk.set_tool("frame" if on else "point"))
        desk.framed_changed.connect(self._follow)
        desk.tool_changed.connect(self._tool)
        self._follow()

    def _tool(self) -> None:
        self.button.blockSignals(True)
        self.button.setChecked(self.desk.tool == "frame")
        self.button.blockSignals(False)

    def _follow(self) -> None:
        if self.desk.framed is not None:
            self.field.setText(self.desk.framed.text)
            self.field.setCursorPosition(0)
            self.framed.emit()
