"""A field for a setting that may be left to the program: empty, it tells in soft ink what will be used then."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLineEdit

from ...core.digits import plain
from ...core.left_out import Found
from ...core.parameter import Parameter
from ...core.quantity import pretty_unit, suited_unit
from ..plain_text import Words
from ..theme.theme import figures

ROOM = 10
"""Pixels between what is typed and the unit."""


class FoundField(QLineEdit):
    """Holds what a person types; nothing, as long as the program is to find it. A number is typed in the unit that is
    shown, or with another one behind it."""

    def __init__(self, p: Parameter, unit: str = ""):
        super().__init__()
        self.asked = p
        self.base = unit if p.kind.field == "number" else ""
        self.shown, self.factor = self.base, 1.0
        self.unit = Words(parent=self)
        self.unit.setProperty("kind", "soft")
        self.unit.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        if p.kind.field in ("number", "numbers"):
            self.setFont(figures(13))
        self.textChanged.connect(self._show_unit)
        self.tell(None)

    def tell(self, found: Found | str | None) -> None:
        """Show what will be used: what was found, the sentence of a trouble, or what the setting says of itself."""
        assert self.asked.left_out is not None
        if isinstance(found, Found):
            if not self.text().strip():
                self._suit(found.value)
            words = f"{self._written(found.value)} · {found.whence}"
        elif isinstance(found, str):
            words = "needed: nothing says it"
        else:
            words = self.asked.left_out.words
        self.setPlaceholderText(words)
        self.setAccessibleDescription(found if isinstance(found, str) else words)
        self._show_unit()

    def _suit(self, value: object) -> None:
        if self.base and isinstance(value, (int, float)):
            self.shown, self.factor = suited_unit(float(value), self.base)

    def _written(self, value: object) -> str:
        if isinstance(value, (int, float)) and self.base:
            return f"{value * self.factor:.6g} {pretty_unit(self.shown)}"
        return plain(value) if isinstance(value, float) else str(value)

    def value(self) -> str | None:
        """What was typed, with its unit; None when it is left to the program."""
        text = self.text().strip()
        bare = self.factor != 1.0 and text.replace("−", "-").lstrip("+-").replace(".", "", 1).replace("e", "", 1)
        if bare and bare.replace("-", "").isdigit():
            return f"{text} {self.shown}"
        return text or None

    def _show_unit(self) -> None:
        self.unit.setText(pretty_unit(self.shown) if self.text().strip() and self.shown else "")
        self.unit.adjustSize()
        self.setTextMargins(0, 0, self.unit.width() + ROOM if self.unit.text() else 0, 0)
        self._place()

    def resizeEvent(self, event) -> None:
        super().resizeEvent(event)
        self._place()

    def _place(self) -> None:
        self.unit.move(self.width() - self.unit.width() - ROOM, (self.height() - self.unit.height()) // 2)
