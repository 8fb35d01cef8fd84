"""The Finder: type a few letters, get any tool, image or setting."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtCore import QEvent, QPoint, QStringListModel, Qt
from PySide6.QtWidgets import QFrame, QGraphicsDropShadowEffect, QLineEdit, QListView, QVBoxLayout


@dataclass(frozen=True)
class Entry:
    """Something that can be found: its kind ("tool", "image", "layer", "setting", "stage"), name, more words, and what
    it does."""

    kind: str
    name: str
    more: str
    do: Callable[[], None]


MOST = 500
"""Entries that are listed; whoever looks for others types more letters."""
STEM = 5
"""Letters of a word that more may be typed of."""


def ranked(entries: list[Entry], typed: str) -> list[Entry]:
    """Entries whose name holds every typed piece or whose other words begin so, or are its stem ("regression" finds
    "regress"); best first: names that start so, names with words that start so, names that hold it, words, then
    stems."""
    parts = typed.casefold().split()
    found = []
    for n, entry in enumerate(entries):
        name, words = entry.name.casefold(), f"{entry.kind} {entry.more}".casefold().split()
        begin = all(p in name or any(w.startswith(p) for w in words) for p in parts)
        stems = [w for w in words if len(w) >= STEM]
        if not begin and not all(p in name or any(w.startswith(p) or p.startswith(w) for w in stems) for p in parts):
            continue
        if parts and name.startswith(" ".join(parts)):
            score = 0
        elif all(any(w.startswith(p) for w in name.split()) for p in parts):
            score = 1
        elif all(p in name for p in parts):
            score = 2
        else:
            score = 3 if begin else 4
        found.append((score, n, entry))
    return [entry for _, _, entry in sorted(found, key=lambda f: f[:2])]


class Finder(QFrame):
    """A box over the Light table; Enter does the first entry, Esc closes it."""

    def __init__(self, parent, entries: Callable[[], list[Entry]], images: Callable[[str], list[Entry]]):
        super().__init__(parent)
        self.setObjectName("finder")
        self._entries, self._images, self._shown = entries, images, []
        self.field, self.list = QLineEdit(), QListView()
        self.field.setPlaceholderText("Type a few letters of a tool, an image or a setting")
        self.field.setAccessibleName("Finder")
        self.model = QStringListModel(self)
        self.list.setModel(self.model)
        self.list.setEditTriggers(QListView.EditTrigger.NoEditTriggers)
        self.list.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 12, 12, 8)
        column.addWidget(self.field)
        column.addWidget(self.list)
        self.field.textChanged.connect(self._search)
        self.field.installEventFilter(self)
        self.list.clicked.connect(lambda index: self._do(index.row()))
        self.setGraphicsEffect(QGraphicsDropShadowEffect(blurRadius=30, offset=QPoint(0, 6)))
        self.hide()

    def open(self, typed: str = "") -> None:
        """Show it, with some letters typed, or empty, with everything listed."""
        self._all = self._entries()
        width = min(560, self.parent().width() - 40)
        self.setGeometry((self.parent().width() - width) // 2, 60, width, 380)
        self.field.setText(typed)
        self._search(typed)
        self.show()
        self.raise_()
        self.field.setFocus()

    def _search(self, typed: str) -> None:
        found = ranked(self._all + self._images(typed), typed)
        self._shown = found[:MOST]
        self.model.setStringList([f"{e.name}   ·   {e.kind}" for e in self._shown])
        self.list.setCurrentIndex(self.model.index(0))
        self.setFixedHeight(66 + 29 * max(1, min(len(self._shown), 11)))

    def _do(self, row: int) -> None:
        if 0 <= row < len(self._shown):
            entry = self._shown[row]
            self.hide()
            entry.do()

    def eventFilter(self, watched, event) -> bool:
        if event.type() == QEvent.Type.KeyPress:
            row = self.list.currentIndex().row()
            if event.key() in (Qt.Key.Key_Down, Qt.Key.Key_Up):
                row += 1 if event.key() == Qt.Key.Key_Down else -1
                self.list.setCurrentIndex(self.model.index(max(0, min(len(self._shown) - 1, row))))
                return True
            if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
                self._do(row)
                return True
            if event.key() == Qt.Key.Key_Escape:
                self.hide()
                return True
        elif event.type() == QEvent.Type.FocusOut:
            self.hide()
        return super().eventFilter(watched, event)
