"""The operations of a stage under headings: those that suit what leads first, the others folded behind their name."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from importlib import import_module
from typing import TYPE_CHECKING

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QGridLayout, QPushButton, QVBoxLayout, QWidget

from ...core.heading import Heading, arranged, sorts_of
from ...core.operation import Operation, operations_of
from ..theme.theme import Theme, icon
from ..widgets.plain_text import plain_tip

if TYPE_CHECKING:
    from ..models.desk_model import Desk

HALF = 108
"""Pixels of a title that has a row of the Bench to itself when it is longer."""


class Under(QWidget):
    """One heading and its operations; a press on the heading folds or opens them."""

    pressed = Signal()

    def __init__(self, heading: Heading, operations: Sequence[Operation], open_form: Callable[[Operation], object]):
        super().__init__()
        self.heading, self.count = heading, len(operations)
        self.buttons: QWidget | None = None
        """Made when they are first seen."""
        self._make = lambda: operation_buttons(open_form, operations)
        self.chosen: bool | None = None
        """Whether a hand has opened or folded it, which counts from then on."""
        self.head = QPushButton()
        self.head.setProperty("kind", "heading")
        self.head.clicked.connect(self._press)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(3)
        column.addWidget(self.head)
        self.is_open = False

    def set_open(self, on: bool) -> None:
        """Open or fold it, unless a hand has chosen."""
        self.is_open = on if self.chosen is None else self.chosen
        if self.buttons is None and self.is_open:
            self.buttons = self._make()
            self.layout().addWidget(self.buttons)
        if self.buttons is not None:
            self.buttons.setVisible(self.is_open)
        self.head.setText(self.heading.name if self.is_open else f"{self.heading.name} · {self.count}")
        self.head.setAccessibleName(f"{self.heading.name}, {'open' if self.is_open else 'folded'}")
        self.dress()

    def dress(self) -> None:
        """Put on the theme in force."""
        self.head.setIcon(icon("chevron-down" if self.is_open else "chevron-right", 14, Theme.tokens.soft))

    def _press(self) -> None:
        self.chosen = not self.is_open
        self.set_open(self.chosen)
        self.pressed.emit()


class Headings(QWidget):
    """The headings of a stage. They follow what leads; an operation whose heading the stage does not list stands at the
    end."""

    def __init__(self, desk: Desk, stage: str, open_form: Callable[[Operation], object], left_out: Sequence[str] = ()):
        super().__init__()
        self.desk = desk
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(0, 0, 0, 0)
        self._column.setSpacing(7)
        self._headings: tuple[Heading, ...] = import_module(f"kestrelmist.{stage.lower()}").HEADINGS
        listed = [o for o in operations_of(stage.lower()) if o.name not in left_out]
        names = [h.name for h in self._headings]
        self.under: dict[str, Under] = {}
        for heading in self._headings:
            here = [o for o in listed if o.group == heading.name]
            if here:
                self.under[heading.name] = Under(heading, here, open_form)
                self._column.addWidget(self.under[heading.name])
        others = [o for o in listed if o.group not in names]
        if others:
            self._column.addWidget(operation_buttons(open_form, others))
        desk.viewing.lead_changed.connect(self.arrange)
        self.arrange()

    def arrange(self) -> None:
        """Put the headings in the order in which what leads needs them."""
        record = self.desk.viewing.record
        sorts = frozenset() if record is None else sorts_of(record.grid.shape, record.axes, record.unit)
        shown = [(self.under[h.name], on) for h, on in arranged(self._headings, sorts) if h.name in self.under]
        for n, (under, on) in enumerate(shown):
            if self._column.indexOf(under) != n:
                self._column.removeWidget(under)
                self._column.insertWidget(n, under)
            under.set_open(on)

    def dress(self) -> None:
        """Put on the theme in force."""
        for under in self.under.values():
            under.dress()


def operation_buttons(open_form: Callable[[Operation], object], operations: Sequence[Operation]) -> QWidget:
    """Links for the operations, two in a row where they are short; `open_form` opens the form of one."""
    widget = QWidget()
    grid = QGridLayout(widget)
    grid.setContentsMargins(0, 0, 0, 0)
    grid.setSpacing(2)
    grid.setColumnStretch(0, 1)
    grid.setColumnStretch(1, 1)
    at = 0
    for operation in operations:
        button = QPushButton(operation.title)
        button.setProperty("kind", "link")
        button.setToolTip(plain_tip(operation.summary))
        button.clicked.connect(lambda _=False, o=operation: open_form(o))
        wide = button.fontMetrics().horizontalAdvance(operation.title) > HALF
        at += at % 2 if wide else 0  # a long one has a row of its own
        grid.addWidget(button, at // 2, at % 2, 1, 2 if wide else 1)
        at += 2 if wide else 1
    return widget
