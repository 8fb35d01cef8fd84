"""A field for a setting that may be left to the program: empty, it tells in soft ink what will be used then."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QRect, Qt
from PySide6.QtGui import QColor, QFont, QPainter
from PySide6.QtWidgets import QApplication

from ...core.digits import plain
from ...core.kinds.plain import WITH_UNIT
from ...core.left_out import Found
from ...core.parameter import Parameter
from ...core.quantity import pretty_unit, suited_unit
from ..theme.theme import Theme, figures
from .unit_line import GAP, UnitLine


class FoundField(UnitLine):
    """Holds what a person types; nothing, as long as the program is to find it. A number is typed in the unit that is
    shown, or with another one behind it."""

    def __init__(self, p: Parameter, unit: str = ""):
        self.left, self.right = "", ""
        """What is told while it is empty: the value, and where it comes from."""
        self.asked, self.factor = p, 1.0
        self.base = unit if p.kind.field == "number" else ""
        super().__init__(self.base)
        if p.kind.field in ("number", "numbers"):
            self.setFont(figures(13))
        self.tell(None)

    def tell(self, found: Found | str | None) -> None:
        """Show what will be used: what was found, the sentence of a trouble, or what the setting says of itself."""
        assert self.asked.left_out is not None
        words = self.asked.left_out.words
        if isinstance(found, Found):
            if not self.text().strip() and self.base and isinstance(found.value, (int, float)):
                self.shown, self.factor = suited_unit(float(found.value), self.base)
            self.left, self.right = self._written(found.value), found.whence
        elif isinstance(found, str):
            self.left, self.right = "", "not said: needed"
        else:
            self.left, self.right = "", words
        told = found if isinstance(found, str) else " ".join(filter(None, (self.left, self.right)))
        self.setAccessibleDescription(told)
        self._make_room()

    def _written(self, value: object) -> str:
        if isinstance(value, (int, float)) and self.base:
            return f"{value * self.factor:.6g} {pretty_unit(self.shown)}"
        return plain(value) if isinstance(value, float) else str(value)

    def value(self) -> str | None:
        """What was typed, with its unit; None when it is left to the program."""
        text = self.text().strip()
        if text and self.factor != 1.0 and WITH_UNIT.fullmatch(text.replace("−", "-")) is None:
            return f"{text} {self.shown}"
        return text or None

    def put(self, value: Any) -> None:
        """Fill in a value as it is used."""
        if value is None:
            self.clear()
        elif isinstance(value, (tuple, list)):
            self.setText(", ".join(plain(v) for v in value))
        elif isinstance(value, (int, float)):
            self.shown, self.factor = suited_unit(float(value), self.base)
            self.setText(plain(float(f"{value * self.factor:.15g}")))
        else:
            self.setText(str(value))

    def paintEvent(self, event) -> None:
        super().paintEvent(event)
        if self.text():
            return
        inside = self.inside()
        with QPainter(self) as painter:
            painter.setPen(QColor(Theme.tokens.soft))
            painter.setFont(figures(12) if self.base else self.font())
            painter.drawText(inside, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, self.left)
            taken = painter.fontMetrics().horizontalAdvance(self.left) + GAP if self.left else 0
            small = QFont(QApplication.font().families(), 1)  # named outright: a painter fills in from the widget's own
            small.setPixelSize(11 if self.left else 12)
            painter.setFont(small)
            room = QRect(inside.left() + taken, inside.top(), inside.width() - taken, inside.height())
            words = painter.fontMetrics().elidedText(self.right, Qt.TextElideMode.ElideRight, room.width())
            side = Qt.AlignmentFlag.AlignRight if self.left else Qt.AlignmentFlag.AlignLeft
            painter.drawText(room, Qt.AlignmentFlag.AlignVCenter | side, words)
