"""A field for a number with its unit, which keeps every digit that is typed."""

from __future__ import annotations

import math
import re

from PySide6.QtCore import Qt
from PySide6.QtGui import QValidator
from PySide6.QtWidgets import QDoubleSpinBox

from ...core.digits import decimals_for, plain
from ..theme.theme import figures

KEPT = 60
"""Decimals that the box itself keeps: more than a double has, so that nothing is rounded."""
NUMBER = re.compile(r"[+-]?(\d+\.?\d*|\.\d+)(e[+-]?\d+)?", re.I)
BEGUN = re.compile(r"[+-]?\d*\.?\d*(e[+-]?\d*)?", re.I)


class NumberField(QDoubleSpinBox):
    """A number with its unit; answers when editing is done, not at every key.

    What is typed is kept to the last digit, and shown so. `digits` is how many decimals are shown at least, and the
    step from 0. A field that follows something which is drawn or dragged (`follows`) shows that rounded to its
    digits, and knows it exactly all the same.
    """

    def __init__(self, digits: int = 3, whole: bool = False, follows: bool = False):
        super().__init__()
        self.digits, self.whole, self.follows, self._typed = digits, whole, follows, False
        self.setDecimals(KEPT)

    def suit_values(self, low: float, high: float, whole: bool = False) -> None:
        """Digits for values of an image whose range is known; any value may be typed."""
        span = max(abs(low), abs(high), abs(high - low), 1.0) * 1e6
        self._set_digits(decimals_for(low, high, whole))
        self.setRange(-span, span)

    def set_range(self, low: float, high: float, step: float) -> None:
        """Limits, and digits that tell a step apart."""
        self._set_digits(min(12, max(0, math.ceil(-math.log10(step) - 1e-9))))
        self.setRange(low, high)

    def _set_digits(self, digits: int) -> None:
        self.digits = digits
        self.setPrefix(self.prefix())  # shows the number anew

    # Qt's own way to read and show

    def setValue(self, value: float) -> None:
        if value != self.value():
            self._typed = False
        super().setValue(value)

    def textFromValue(self, value: float) -> str:
        text = f"{value:.{self.digits}f}"
        if float(text) != value and (self._typed or not self.follows):
            text = plain(value)
        return text.replace(".", self.locale().decimalPoint())

    def valueFromText(self, text: str) -> float:
        own = self._bare(text)
        if own == self._bare(self.textFromValue(self.value())):
            return self.value()  # it may be shown with fewer digits than it has
        self._typed = True
        return float(own) if NUMBER.fullmatch(own) else self.value()

    def validate(self, text: str, place: int) -> tuple[QValidator.State, str, int]:
        own = self._bare(text)
        state = QValidator.State.Invalid
        if NUMBER.fullmatch(own) and not (self.whole and float(own) != int(float(own))):
            fits = self.minimum() <= float(own) <= self.maximum()
            state = QValidator.State.Acceptable if fits else QValidator.State.Intermediate
        elif BEGUN.fullmatch(own):
            state = QValidator.State.Intermediate
        return state, text, place

    def _bare(self, text: str) -> str:
        own = text.removeprefix(self.prefix()).removesuffix(self.suffix()).strip().replace("−", "-")
        return own.replace(self.locale().decimalPoint(), ".").replace(",", ".")

    def stepBy(self, steps: int) -> None:
        """By a tenth of the first digit, and from larger numbers at least by the last decimal shown."""
        value, least = self.value(), 10.0**-self.digits
        step = 10.0 ** (math.floor(math.log10(abs(value)) + 1e-9) - 1) if value else least
        step = max(step, least) if abs(value) >= least else step
        fine = max(self.digits, -math.floor(math.log10(step)), len(plain(value).partition(".")[2]))
        self._typed = True
        super().setValue(round(value + steps * step, fine))


def number(
    low: float, high: float, digits: int, unit: str = "", name: str = "", *, whole: bool = False, follows: bool = False
) -> NumberField:
    """A number field between two limits."""
    field = NumberField(digits, whole, follows)
    field.setRange(low, high)
    field.setSuffix(f" {unit}" if unit else "")
    field.setKeyboardTracking(False)
    field.setFont(figures(13))
    field.setMinimumWidth(74)
    field.lineEdit().setTextMargins(4, 0, 0, 0)
    field.setAccessibleName(name)
    field.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
    return field
