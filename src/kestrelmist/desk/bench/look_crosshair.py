"""How the crosshair is drawn: its width, its colour, or not at all."""

from __future__ import annotations

from PySide6.QtGui import QColor, QIcon, QPixmap
from PySide6.QtWidgets import QColorDialog, QDoubleSpinBox, QHBoxLayout, QToolButton, QWidget

from ..models.desk_model import Desk
from ..theme.theme import figures
from ..widgets.plain_text import plain_tip
from .rows import quietly, row


class CrosshairPanel(QWidget):
    """One line."""

    def __init__(self, desk: Desk):
        super().__init__()
        self.viewing = desk.viewing
        self.wide, self.colour = QDoubleSpinBox(), QToolButton()
        self.wide.setRange(0.0, 9.0)
        self.wide.setDecimals(0)
        self.wide.setSuffix(" px")
        self.wide.setSpecialValueText("off")
        self.wide.setFont(figures(13))
        self.wide.setAccessibleName("Width of the crosshair")
        self.colour.setAccessibleName("Colour of the crosshair")
        self.colour.setToolTip(plain_tip("Choose the colour of the crosshair"))
        line: QHBoxLayout = row("Crosshair", self.wide, self.colour, width=66)
        line.setStretch(2, 0)
        line.setContentsMargins(0, 0, 0, 0)
        self.setLayout(line)
        self.wide.valueChanged.connect(lambda v: self.viewing.arrange(crosshair_width=v))
        self.colour.clicked.connect(self._ask)
        self.viewing.arrangement_changed.connect(self._follow)
        self._follow()

    def _ask(self) -> None:
        chosen = QColorDialog.getColor(QColor(self.viewing.arrangement.crosshair), self, "Colour of the crosshair")
        if chosen.isValid():
            self.viewing.arrange(crosshair=chosen.name().upper())

    def _follow(self) -> None:
        arrangement = self.viewing.arrangement
        with quietly(self.wide):
            self.wide.setValue(arrangement.crosshair_width)
        pixmap = QPixmap(16, 16)
        pixmap.fill(QColor(arrangement.crosshair))
        self.colour.setIcon(QIcon(pixmap))
