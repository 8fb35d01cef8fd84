"""A strip over the panes: how what lies above is seen over what leads. Seen when more than one layer lies there."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import QSignalBlocker, Qt
from PySide6.QtWidgets import QButtonGroup, QDoubleSpinBox, QHBoxLayout, QPushButton, QSlider, QWidget

from ...scene.compare import WAYS
from ..desk_model import Desk

WORDS = {"over": "Over", "fade": "Fade", "swipe": "Swipe", "squares": "Squares", "edges": "Edges"}


class CompareStrip(QWidget):
    """Five ways, a slider for how much, and the side of the squares."""

    def __init__(self, desk: Desk, parent=None):
        super().__init__(parent)
        self.setObjectName("strip")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(34)
        self.layers = desk.layers
        row = QHBoxLayout(self)
        row.setContentsMargins(8, 3, 8, 3)
        row.setSpacing(6)
        self.buttons: dict[str, QPushButton] = {}
        group = QButtonGroup(self)
        for way in WAYS:
            button = QPushButton(WORDS[way])
            button.setCheckable(True)
            button.setProperty("kind", "small")
            button.setAccessibleName(f"Compare: {WORDS[way]}")
            button.clicked.connect(lambda _, way=way: self._set(way=way))
            group.addButton(button)
            self.buttons[way] = button
            row.addWidget(button)
        self.share = QSlider(Qt.Orientation.Horizontal)
        self.share.setRange(0, 100)
        self.share.setFixedWidth(160)
        self.share.setAccessibleName("How much of what lies above")
        self.share.valueChanged.connect(lambda value: self._set(share=value / 100))
        self.square = QDoubleSpinBox()
        self.square.setRange(1e-4, 1e5)
        self.square.setDecimals(2)
        self.square.setFixedWidth(96)
        self.square.setAccessibleName("Side of the squares")
        self.square.valueChanged.connect(lambda value: self._set(square=value))
        row.addSpacing(8)
        row.addWidget(self.share)
        row.addWidget(self.square)
        row.addStretch(1)
        self.layers.changed.connect(self._follow)
        desk.viewing.looks_changed.connect(self._follow)
        self._follow()

    def _set(self, **changes) -> None:
        self.layers.compare(replace(self.layers.comparison, **changes))

    def _follow(self) -> None:
        how, record = self.layers.comparison, self.layers.viewing.record
        self.setVisible(len(self.layers.rows) > 1)
        self.buttons[how.way].setChecked(True)
        self.share.setVisible(how.way in ("fade", "swipe"))
        self.square.setVisible(how.way == "squares")
        with QSignalBlocker(self.share), QSignalBlocker(self.square):
            self.share.setValue(round(100 * how.share))
            self.square.setValue(how.square)
            self.square.setSuffix(f" {record.grid.unit}" if record is not None else "")
