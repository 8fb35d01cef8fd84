"""How the label map in hand is drawn: filled, by edges, both; how strongly; one label or all."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QComboBox, QHBoxLayout, QPushButton, QSlider, QSpinBox, QVBoxLayout, QWidget

from ..models.desk_model import Desk
from ..theme.theme import figures
from .rows import quietly, row

LABEL_LOOKS = (
    ("Filled with edges", (0.35, True)),
    ("Edges only", (0.0, True)),
    ("Filled, strong", (0.7, False)),
    ("Off", (0.0, False)),
)
OWN = "As set below"


class LabelsPanel(QWidget):
    """One list of usual ways, and single settings for whoever wants them."""

    def __init__(self, desk: Desk, more: QPushButton):
        super().__init__()
        self.viewing, self.hand = desk.viewing, desk.hand
        self.how = QComboBox()
        self.how.setAccessibleName("How labels are drawn")
        for words, look in LABEL_LOOKS:
            self.how.addItem(words, look)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(5)
        column.addLayout(row("Labels", self.how, width=56))
        self.whole = QWidget()
        inside = QVBoxLayout(self.whole)
        inside.setContentsMargins(0, 0, 0, 0)
        inside.setSpacing(5)
        self.fill = QSlider(Qt.Orientation.Horizontal)
        self.fill.setRange(0, 100)
        self.fill.setAccessibleName("How strongly labels are filled")
        self.opacity = QSlider(Qt.Orientation.Horizontal)
        self.opacity.setRange(0, 100)
        self.opacity.setAccessibleName("Opacity of labels")
        self.edges, self.width, self.only = QCheckBox("Edges"), QSpinBox(), QCheckBox("One only")
        self.width.setRange(1, 9)
        self.width.setSuffix(" px")
        self.width.setFont(figures(13))
        self.width.setFixedWidth(66)
        self.width.setAccessibleName("Width of the edges of labels")
        self.only.setToolTip("Draw the label in hand and no other")
        line = QHBoxLayout()
        for widget in (self.edges, self.width, self.only):
            line.addWidget(widget)
        line.addStretch(1)
        inside.addLayout(row("Filling", self.fill, width=56))
        inside.addLayout(row("Opacity", self.opacity, width=56))
        inside.addLayout(line)
        column.addWidget(self.whole)
        viewing = self.viewing
        self.how.activated.connect(self._draw)
        self.fill.valueChanged.connect(lambda v: viewing.maps.set_look(fill=v / 100))
        self.opacity.valueChanged.connect(lambda v: viewing.maps.set_look(opacity=v / 100))
        self.edges.toggled.connect(lambda on: viewing.maps.set_look(edges=on))
        self.width.valueChanged.connect(lambda v: viewing.maps.set_look(edge_width=v))
        self.only.toggled.connect(self._one)
        for signal in (viewing.looks_changed, viewing.maps.chosen, viewing.lead_ready, desk.hand.label_chosen):
            signal.connect(self._follow)
        more.toggled.connect(lambda on: self._follow())
        self._follow()

    def set_whole(self, on: bool) -> None:
        self.whole.setVisible(on)

    def _draw(self) -> None:
        data = self.how.currentData()
        if data is not None:
            self.viewing.maps.set_look(fill=data[0], edges=data[1])

    def _one(self, on: bool) -> None:
        self.viewing.maps.set_look(only=self.hand.label_number if on else None)

    def _follow(self) -> None:
        look = self.viewing.maps.look
        known = [data for _, data in LABEL_LOOKS]
        at = (look.fill, look.edges)
        if look.only is not None and self.hand.label_number not in (None, look.only):
            self.viewing.maps.set_look(only=self.hand.label_number)  # another one is in hand: that one is drawn
            return
        with quietly(self.how, self.fill, self.opacity, self.edges, self.width, self.only):
            if at in known:
                if self.how.count() > len(known):
                    self.how.removeItem(len(known))
                self.how.setCurrentIndex(known.index(at))
            else:
                if self.how.count() == len(known):
                    self.how.addItem(OWN)
                self.how.setCurrentIndex(len(known))
            self.fill.setValue(round(100 * look.fill))
            self.opacity.setValue(round(100 * look.opacity))
            self.edges.setChecked(look.edges)
            self.width.setValue(look.edge_width)
            self.only.setChecked(look.only is not None)
