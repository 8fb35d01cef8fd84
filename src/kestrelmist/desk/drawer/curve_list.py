"""The list of kept curves beside a plot."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QScrollArea, QVBoxLayout, QWidget

from ...core.curve import Curve
from ..bench.rows import Wrapped
from .curve_row import CurveRow, Curves

WIDTH = 236


class CurveList(QScrollArea):
    """A row a curve, and a line for what there is to say."""

    def __init__(self, keeper: Curves):
        super().__init__(widgetResizable=True)
        self.keeper = keeper
        self._rows: dict[int, CurveRow] = {}
        self.said = Wrapped()
        self.said.setProperty("kind", "soft")
        self._list = QVBoxLayout()
        self._list.setSpacing(2)
        inside = QWidget()
        inside.setProperty("kind", "scrolled")
        column = QVBoxLayout(inside)
        column.setContentsMargins(0, 0, 4, 0)
        column.addLayout(self._list)
        column.addWidget(self.said)
        column.addStretch(1)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.setWidget(inside)
        self.setFixedWidth(WIDTH)

    def show_curves(self, held: dict[int, Curve], hidden: set[int]) -> None:
        """The curves that are kept now, by their ids."""
        for key in [key for key in self._rows if key not in held]:
            row = self._rows.pop(key)
            self._list.removeWidget(row)
            row.deleteLater()
        for key, curve in held.items():
            if key not in self._rows:
                self._rows[key] = CurveRow(self.keeper, key)
                self._list.addWidget(self._rows[key])
            self._rows[key].show_curve(curve, key not in hidden)

    @property
    def rows(self) -> list[CurveRow]:
        return list(self._rows.values())
