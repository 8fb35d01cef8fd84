"""All keys and gestures on one sheet, made from the lists by which they are handled."""

from __future__ import annotations

from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QKeySequence
from PySide6.QtWidgets import (
    QFrame,
    QGraphicsDropShadowEffect,
    QGridLayout,
    QHBoxLayout,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from ..bench.rows import Wrapped, title
from ..command import COMMANDS, GROUPS, HANDLINGS
from ..theme.theme import figures
from ..widgets.plain_text import Words

EACH = 330
"""Pixels that a column takes."""


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
    """Over the whole window; any key or click closes it, but those that scroll it where it is longer than that."""

    def __init__(self, parent: QWidget):
        super().__init__(parent)
        self.setObjectName("finder")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("All keys and gestures")
        self.area = QScrollArea(widgetResizable=True)
        self.area.setFrameShape(QFrame.Shape.NoFrame)
        self.area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        around = QVBoxLayout(self)
        around.setContentsMargins(14, 10, 14, 10)
        around.addWidget(self.area)
        self._columns = 0
        self.setGraphicsEffect(QGraphicsDropShadowEffect(blurRadius=30, offset=QPoint(0, 6)))
        self.hide()

    def _make(self, count: int) -> None:
        """Lay the groups out in so many columns of about the same height."""
        columns = [QVBoxLayout() for _ in range(count)]
        heights = [0] * count
        for group, lines in told():
            n = heights.index(min(heights))
            heights[n] += len(lines) + 2
            grid = QGridLayout()
            grid.setVerticalSpacing(1)
            grid.setHorizontalSpacing(10)
            for row, (keys, words) in enumerate(lines):
                key, text = Words(keys), Wrapped(words)
                key.setFont(figures(12))
                key.setAlignment(Qt.AlignmentFlag.AlignTop)
                text.setProperty("kind", "plain")
                text.setStyleSheet("font-size: 12px")
                grid.addWidget(key, row, 0)
                grid.addWidget(text, row, 1)
            grid.setColumnStretch(1, 1)
            columns[n].addWidget(title(group))
            columns[n].addLayout(grid)
            columns[n].addSpacing(6)
        inside = QWidget()
        inside.setProperty("kind", "scrolled")
        across = QHBoxLayout(inside)
        across.setContentsMargins(4, 2, 8, 2)
        across.setSpacing(18)
        for column in columns:
            column.addStretch(1)
            across.addLayout(column, 1)
        self.area.setWidget(inside)
        self._columns = count

    def open(self) -> None:
        parent = self.parentWidget()
        self.setGeometry(20, 16, parent.width() - 40, parent.height() - 32)
        wanted = max(1, min(3, self.width() // EACH))
        if wanted != self._columns:
            self._make(wanted)
        self.area.verticalScrollBar().setValue(0)
        self.show()
        self.raise_()
        self.setFocus()

    def keyPressEvent(self, event) -> None:
        bar = self.area.verticalScrollBar()
        pages = {Qt.Key.Key_Down: 0.1, Qt.Key.Key_Up: -0.1, Qt.Key.Key_PageDown: 0.9, Qt.Key.Key_PageUp: -0.9}
        if event.key() in pages and bar.maximum() > 0:
            bar.setValue(bar.value() + round(pages[event.key()] * bar.pageStep()))
        else:
            self.hide()

    def mousePressEvent(self, event) -> None:
        self.hide()

    def focusOutEvent(self, event) -> None:
        self.hide()
