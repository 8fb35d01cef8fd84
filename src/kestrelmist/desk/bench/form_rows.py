"""The rows of a form: names and fields, those that few need folded away, and a place that explains what has focus."""

from __future__ import annotations

from PySide6.QtCore import QEvent
from PySide6.QtWidgets import (
    QAbstractSpinBox,
    QComboBox,
    QFormLayout,
    QLineEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from ...core.parameter import Parameter
from ..widgets.plain_text import Words, plain_tip
from .rows import soft

HELP = "help"
"""Property of a field under which stands which help is its."""
LONG = 120
"""Characters of a line that explains a field; all of it is in its tip."""


NARROWEST = 64
"""Pixels of a field beside a long name."""


def one_line(text: str) -> str:
    """The first sentence of a help text, or as much of it as says something by itself."""
    head = text.partition(". ")[0].rstrip(".")
    if len(head) > LONG:
        ends = [head.rfind(mark, 0, LONG) for mark in (";", ":", ", ", " (")]
        end = max(ends)
        head = head[: end if end > LONG // 3 else head.rfind(" ", 0, LONG)]
    return head + "."


class Explaining(QWidget):
    """What the operation does; while a field has focus, what that one is for. It keeps its height."""

    def __init__(self, summary: str):
        super().__init__()
        self.summary, self.words = summary, soft(summary)
        self._helps: list[str] = []
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.words)
        column.addStretch(1)

    def explain(self, field: QWidget, help: str) -> None:
        """What is said while a field, or something in it, has focus."""
        self._helps.append(one_line(help))
        for part in (field, *field.findChildren(QWidget)):
            part.setProperty(HELP, len(self._helps) - 1)
            part.installEventFilter(self)

    def resizeEvent(self, event) -> None:
        super().resizeEvent(event)
        # as tall as the longest of what it will say, so that no row moves under the pointer
        metrics = self.words.fontMetrics()
        flags = 0x1000  # word wrap
        texts = [self.summary, *self._helps]
        self.setMinimumHeight(max(metrics.boundingRect(0, 0, self.width(), 1 << 16, flags, t).height() for t in texts))

    def eventFilter(self, watched, event) -> bool:
        if event.type() == QEvent.Type.FocusIn:
            self.words.setText(self._helps[watched.property(HELP)])
        elif event.type() == QEvent.Type.FocusOut:
            self.words.setText(self.summary)
        return False


class Rows(QWidget):
    """Names and fields below each other."""

    def __init__(self):
        super().__init__()
        self.form = QFormLayout(self)
        self.form.setContentsMargins(0, 0, 0, 0)
        self.form.setSpacing(7)
        self.form.setFieldGrowthPolicy(QFormLayout.FieldGrowthPolicy.AllNonFixedFieldsGrow)

    def add(self, words: str, field: QWidget, help: str = "") -> None:
        name = Words(words)
        name.setToolTip(plain_tip(help))
        name.setBuddy(field)
        for part in (field, *field.findChildren(QWidget)):
            if isinstance(part, (QComboBox, QLineEdit, QAbstractSpinBox)):
                part.setMinimumWidth(NARROWEST)  # names stay whole; what is chosen may be cut, with dots
        self.form.addRow(name, field)

    def show_row(self, field: QWidget, shown: bool) -> None:
        self.form.setRowVisible(field, shown)


class Folded(QWidget):
    """Rows that few need, behind a line that names them."""

    def __init__(self):
        super().__init__()
        self.button, self.rows = QPushButton(), Rows()
        self.button.setProperty("kind", "link")
        self.button.setCheckable(True)
        self.button.toggled.connect(self._fold)
        self.names: list[str] = []
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        column.addWidget(self.button)
        column.addWidget(self.rows)
        self.rows.hide()

    def add(self, p: Parameter, field: QWidget) -> None:
        self.rows.add(p.words, field, p.help)
        self.names.append(p.words)
        self._tell()

    def open(self) -> None:
        """Unfold them, where something of them is not as usual."""
        self.button.setChecked(True)

    def _fold(self, on: bool) -> None:
        self.rows.setVisible(on)
        self._tell()

    def _tell(self) -> None:
        told = ", ".join(name.lower() for name in self.names)
        text = "Fewer" if self.button.isChecked() else f"{len(self.names)} more: {told}"
        self.button.setAccessibleName(text)
        self.button.setToolTip(plain_tip(told))
        room = 246
        metrics = self.button.fontMetrics()
        while metrics.horizontalAdvance(text) > room and ", " in text:
            text = text.rpartition(", ")[0].rstrip(" …,") + " …"
            if ", " not in text:
                break
        self.button.setText(text)
