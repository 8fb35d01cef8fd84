"""All keys and gestures on one sheet, made from the lists by which they are handled."""

from __future__ import annotations

from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QKeySequence
from PySide6.QtWidgets import QFrame, QGraphicsDropShadowEffect, QGridLayout, QHBoxLayout, QVBoxLayout, QWidget

from .command import COMMANDS, GROUPS, HANDLINGS
from .plain_text import Words
from .theme.theme import figures


def told() -> list[tuple[str, list[tuple[str, str]]]]:
    """For each group, what the hand does and what comes of it."""
    found = []
    for group in GROUPS:
        lines = [(one.by, one.words) for one in HANDLINGS if one.group == group]
        lines += [(shown(one.keys), one.title) for one in COMMANDS if one.group == group and one.keys]
        if lines:
            found.append((group, lines))
    return found


def shown(keys: tuple[str, ...]) -> str:
    """Key sequences as they stand on keyboards here."""
    return ", ".join(QKeySequence(one).toString(QKeySequence.SequenceFormat.NativeText) for one in keys)


class Sheet(QFrame):
    """Over the whole window; any key or click closes it."""

    def __init__(self, parent: QWidget):
        super().__init__(parent)
        self.setObjectName("finder")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("All keys and gestures")
        self._made = False
        self.setGraphicsEffect(QGraphicsDropShadowEffect(blurRadius=30, offset=QPoint(0, 6)))
        self.hide()

    def _make(self) -> None:
        groups = told()
        columns: list[QVBoxLayout] = [QVBoxLayout() for _ in range(3)]
        heights = [0, 0, 0]
        for group, lines in groups:
            n = heights.index(min(heights))
            heights[n] += len(lines) + 2
            title = Words(group)
            title.setProperty("kind", "title")
            grid = QGridLayout()
            grid.setVerticalSpacing(1)
            grid.setHorizontalSpacing(10)
            for row, (keys, words) in enumerate(lines):
                key, text = Words(keys), Words(words)
                key.setFont(figures(12))
                key.setAlignment(Qt.AlignmentFlag.AlignTop)
                text.setWordWrap(True)
                text.setStyleSheet("font-size: 12px")
                grid.addWidget(key, row, 0)
                grid.addWidget(text, row, 1)
            grid.setColumnStretch(1, 1)
            columns[n].addWidget(title)
            columns[n].addLayout(grid)
            columns[n].addSpacing(6)
        across = QHBoxLayout(self)
        across.setContentsMargins(18, 12, 18, 12)
        across.setSpacing(18)
        for column in columns:
            column.addStretch(1)
            across.addLayout(column, 1)
        self._made = True

    def open(self) -> None:
        if not self._made:
            self._make()
        parent = self.parentWidget()
        self.setGeometry(20, 16, parent.width() - 40, parent.height() - 32)
        self.show()
        self.raise_()
        self.setFocus()

    def keyPressEvent(self, event) -> None:
        self.hide()

    def mousePressEvent(self, event) -> None:
        self.hide()

    def focusOutEvent(self, event) -> None:
        self.hide()
