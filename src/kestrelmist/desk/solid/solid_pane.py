"""The Solid view's pane: header and canvas."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QVBoxLayout, QWidget

from ..light_table.pane_header import PaneHeader
from ..models.desk_model import Desk
from .solid_canvas import SolidCanvas


class SolidPane(QWidget):
    """Header and canvas of the Solid view."""

    wants_lead = Signal()

    def __init__(self, desk: Desk, parent=None):
        super().__init__(parent)
        self.name = "Solid"
        self.header, self.canvas = PaneHeader(self.name), SolidCanvas(desk)
        self.header.clicked.connect(self.wants_lead)
        self.canvas.counted.connect(self.header.set_place)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.header)
        column.addWidget(self.canvas, 1)

    def set_lead(self, lead: bool) -> None:
        self.header.set_lead(lead)
