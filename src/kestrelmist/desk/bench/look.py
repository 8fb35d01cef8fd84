"""Look: display range, colour map, labels, and where the crosshair is; the same in every stage."""

from __future__ import annotations

from PySide6.QtWidgets import QComboBox, QPushButton, QVBoxLayout, QWidget

from ...scene.colours import MAPS, first_map, first_range
from ..desk_model import Desk
from ..readout import GoTo
from .places import PlacesPanel
from .rows import number, quietly, row, section

LABEL_LOOKS = (
    ("Filled with edges", (0.35, True)),
    ("Edges only", (0.0, True)),
    ("Filled, strong", (0.7, False)),
    ("Off", (0.0, False)),
)


class LookPanel(QWidget):
    """How the lead image and its labels are shown."""

    def __init__(self, desk: Desk):
        super().__init__()
        self.viewing = desk.viewing
        self.low = number(-1e12, 1e12, 1, "", "Display range from")
        self.high = number(-1e12, 1e12, 1, "", "Display range to")
        self.colours = QComboBox()
        self.colours.addItems(list(MAPS))
        self.colours.setAccessibleName("Colour map")
        self.reset = QPushButton("Reset")
        self.reset.setProperty("kind", "small")
        self.labels = QComboBox()
        self.labels.setAccessibleName("How labels are drawn")
        for words, look in LABEL_LOOKS:
            self.labels.addItem(words, look)
        self.go = GoTo(desk)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(5)
        column.addWidget(section("Look"))
        self.places = PlacesPanel(desk)
        column.addWidget(self.places)
        column.addLayout(row("Range", self.low, self.high, width=56))
        line = row("Colours", self.colours, width=56)
        line.addWidget(self.reset)
        column.addLayout(line)
        column.addLayout(row("Labels", self.labels, width=56))
        column.addLayout(row("Go to", self.go, width=56))
        viewing = self.viewing
        self.low.valueChanged.connect(lambda v: viewing.set_look(low=v))
        self.high.valueChanged.connect(lambda v: viewing.set_look(high=v))
        self.colours.textActivated.connect(lambda name: viewing.set_look(colour_map=name))
        self.reset.clicked.connect(self._reset)
        self.labels.activated.connect(self._draw_labels)
        for signal in (viewing.looks_changed, viewing.lead_changed):
            signal.connect(self._follow)
        viewing.lead_ready.connect(self._suit)

    def _draw_labels(self) -> None:
        fill, edges = self.labels.currentData()
        self.viewing.set_label_look(fill=fill, edges=edges)

    def _reset(self) -> None:
        image = self.viewing.image
        if self.viewing.ready and image is not None:
            low, high = first_range(image)
            self.viewing.set_look(low=low, high=high, colour_map=first_map(image), smooth=True)

    def _suit(self) -> None:
        """Digits of the image's own range."""
        image = self.viewing.image
        if image is not None and not image.colour:
            with quietly(self.low, self.high):
                for field in (self.low, self.high):
                    field.suit_values(*image.display_range())
        self._follow()

    def _follow(self) -> None:
        look, labels = self.viewing.look, self.viewing.label_look
        self.setVisible(look is not None)
        if look is None:
            return
        with quietly(self.low, self.high):
            self.low.setValue(look.low)
            self.high.setValue(look.high)
        self.colours.setCurrentText(look.colour_map)
        known = [data for _, data in LABEL_LOOKS]
        at = (labels.fill, labels.edges)
        self.labels.setCurrentIndex(known.index(at) if at in known else 0)
