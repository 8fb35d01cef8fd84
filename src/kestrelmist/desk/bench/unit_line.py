"""A line to type in that tells the unit of what stands in it."""

from __future__ import annotations

from PySide6.QtCore import QRect, Qt
from PySide6.QtGui import QColor, QPainter
from PySide6.QtWidgets import QLineEdit

from ...core.quantity import pretty_unit
from ..theme.theme import Theme

EDGE, GAP = 8, 5
"""Pixels at the ends of the field, and between what it tells."""


class UnitLine(QLineEdit):
    """The unit stands at the right end in soft ink, as long as there is something in the line."""

    def __init__(self, unit: str = "", text: str = ""):
        super().__init__(text)
        self.shown = unit
        self.textChanged.connect(self._make_room)
        self._make_room()

    def _make_room(self) -> None:
        unit = pretty_unit(self.shown) if self.text() else ""
        self.setTextMargins(0, 0, self.fontMetrics().horizontalAdvance(unit) + GAP if unit else 0, 0)
        self.update()

    def inside(self) -> QRect:
        """Where words may stand."""
        return self.rect().adjusted(EDGE, 0, -EDGE, 0)

    def paintEvent(self, event) -> None:
        super().paintEvent(event)
        if not self.text() or not self.shown:
            return
        with QPainter(self) as painter:
            painter.setPen(QColor(Theme.tokens.soft))
            painter.setFont(self.font())
            right = Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight
            painter.drawText(self.inside(), right, pretty_unit(self.shown))
