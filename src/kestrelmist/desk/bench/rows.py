"""Small building blocks of the Bench."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QDoubleSpinBox, QHBoxLayout, QLabel, QVBoxLayout, QWidget

from ..theme.theme import figures


def title(text: str) -> QLabel:
    return _label(text, "title")


def section(text: str) -> QLabel:
    return _label(text, "section")


def soft(text: str = "") -> QLabel:
    label = _label(text, "soft")
    label.setWordWrap(True)
    return label


def _label(text: str, kind: str) -> QLabel:
    label = QLabel(text)
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
    name = QLabel(words)
    name.setFixedWidth(width)
    line.addWidget(name)
    for widget in widgets:
        line.addWidget(widget, 1 if not isinstance(widget, QLabel) else 0)
    if widgets and not isinstance(widgets[0], QLabel):
        name.setBuddy(widgets[0])
    return line


def number(low: float, high: float, digits: int, unit: str = "", name: str = "") -> QDoubleSpinBox:
    """A number field with its unit; answers when editing is done, not at every key."""
    field = QDoubleSpinBox()
    field.setRange(low, high)
    field.setDecimals(digits)
    field.setStepType(QDoubleSpinBox.StepType.AdaptiveDecimalStepType)
    field.setSuffix(f" {unit}" if unit else "")
    field.setKeyboardTracking(False)
    field.setFont(figures(13))
    field.setMinimumWidth(74)
    field.lineEdit().setTextMargins(4, 0, 0, 0)
    field.setAccessibleName(name)
    field.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
    return field


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
