"""Small building blocks of the Bench."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from ..widgets.plain_text import Words


def title(text: str) -> Words:
    label = Wrapped(text)
    label.setProperty("kind", "title")
    return label


def section(text: str) -> Words:
    return _label(text, "section")


class Wrapped(Words):
    """Words on as many lines as they need. Columns do not count these lines when they tell how tall they are, and press
    fields together instead; so the label asks for its height itself."""

    def __init__(self, text: str = ""):
        super().__init__(text)
        self.setWordWrap(True)

    def setText(self, text: str) -> None:
        super().setText(text)
        self._ask_for_height()

    def resizeEvent(self, event) -> None:
        super().resizeEvent(event)
        self._ask_for_height()

    def _ask_for_height(self) -> None:
        # the label's own measure is never below the height that it has asked for before
        room = self.fontMetrics().boundingRect(0, 0, self.width(), 1 << 16, Qt.TextFlag.TextWordWrap, self.text())
        wanted = room.height() if self.text() else 0
        if wanted != self.minimumHeight():
            self.setMinimumHeight(wanted)


def soft(text: str = "") -> Words:
    label = Wrapped(text)
    label.setProperty("kind", "soft")
    return label


def _label(text: str, kind: str) -> Words:
    label = Words(text)
    label.setProperty("kind", kind)
    return label


def page() -> tuple[QWidget, QVBoxLayout]:
    """A Bench page and its column."""
    widget = QWidget()
    widget.setProperty("kind", "scrolled")
    column = QVBoxLayout(widget)
    column.setContentsMargins(0, 0, 0, 0)
    column.setSpacing(7)
    return widget, column


def row(words: str, *widgets: QWidget, width: int = 84) -> QHBoxLayout:
    """A name and what belongs to it, on one line."""
    line = QHBoxLayout()
    line.setSpacing(7)
    name = Words(words)
    name.setFixedWidth(width)
    line.addWidget(name)
    for widget in widgets:
        line.addWidget(widget, 1 if not isinstance(widget, Words) else 0)
    if widgets and not isinstance(widgets[0], Words):
        name.setBuddy(widgets[0])
    return line


@contextmanager
def quietly(*widgets: QWidget) -> Iterator[None]:
    """Set widgets to what is the case without their telling anybody."""
    before = [widget.blockSignals(True) for widget in widgets]
    try:
        yield
    finally:
        for widget, was in zip(widgets, before):
            widget.blockSignals(was)


class Shaded(QWidget):
    """A widget with a column, for groups that appear and vanish."""

    def __init__(self, spacing: int = 7):
        super().__init__()
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(0, 0, 0, 0)
        self.column.setSpacing(spacing)


class OnePage(QWidget):
    """Pages of which one is shown, as tall as the one shown (a QStackedWidget is as tall as its tallest)."""

    def __init__(self):
        super().__init__()
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(0, 0, 0, 0)
        self.current: QWidget | None = None

    def add(self, widget: QWidget) -> None:
        self._column.addWidget(widget)
        widget.setVisible(self.current is None)
        self.current = self.current or widget

    def remove(self, widget: QWidget) -> None:
        widget.hide()
        self._column.removeWidget(widget)
        if self.current is widget:
            self.current = None

    def show_page(self, widget: QWidget) -> None:
        if self.current is not None:
            self.current.hide()
        self.current = widget
        widget.show()
