"""How sure the scales are that sections are measured by: a small button, and what it opens."""

from __future__ import annotations

from PySide6.QtWidgets import QFormLayout, QMenu, QPushButton, QWidget, QWidgetAction

from ..bench.rows import soft
from ..models.sections import Sections
from ..widgets.number_field import NumberField, number
from ..widgets.plain_text import Words, plain_tip


class CalibrationButton(QPushButton):
    """Says what is set; a press asks for it."""

    def __init__(self, sections: Sections):
        super().__init__("±")
        self.sections = sections
        self.setProperty("kind", "small")
        self.setAccessibleName("Uncertainty of the scales")
        self.heights, self.lengths = self._field("Of heights"), self._field("Of lengths")
        asked = QWidget()
        form = QFormLayout(asked)
        form.setContentsMargins(12, 10, 12, 10)
        form.addRow(soft("Standard uncertainty of the calibration; 0 when it is not known."))
        form.addRow(Words("Of heights"), self.heights)
        form.addRow(Words("Of lengths"), self.lengths)
        action = QWidgetAction(self)
        action.setDefaultWidget(asked)
        self.asked = QMenu(self)
        self.asked.addAction(action)
        self.clicked.connect(lambda: self.asked.exec(self.mapToGlobal(self.rect().topLeft())))
        for field in (self.heights, self.lengths):
            field.valueChanged.connect(lambda _: self._set())
        self._tell()

    def _field(self, name: str) -> NumberField:
        return number(0, 100, 3, "%", name)

    def _set(self) -> None:
        self.sections.set_scales(self.heights.value(), self.lengths.value())
        self._tell()

    def _tell(self) -> None:
        heights, lengths = (100 * share for share in self.sections.scales)
        known = f"heights {heights:g} %, lengths {lengths:g} %" if heights or lengths else "not said yet"
        self.setToolTip(plain_tip(f"Calibration: {known}"))
