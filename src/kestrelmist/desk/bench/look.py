"""Look: display range, colour map, labels, and where the crosshair is; the same in every stage."""

from __future__ import annotations

from dataclasses import asdict

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QComboBox, QPushButton, QVBoxLayout, QWidget

from ...core.image import Image
from ...scene.colours import MAPS
from ...scene.first_look import first_look, over_look
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
        self.viewing, self.layers = desk.viewing, desk.layers
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
        self.head = section("Look")
        column.addWidget(self.head)
        self.places = PlacesPanel(desk)
        column.addWidget(self.places)
        column.addLayout(row("Range", self.low, self.high, width=56))
        line = row("Colours", self.colours, width=56)
        line.addWidget(self.reset)
        column.addLayout(line)
        column.addLayout(row("Labels", self.labels, width=56))
        column.addLayout(row("Go to", self.go, width=56))
        viewing = self.viewing
        self.low.valueChanged.connect(lambda v: self.layers.set_look(low=v))
        self.high.valueChanged.connect(lambda v: self.layers.set_look(high=v))
        self.colours.textActivated.connect(lambda name: self.layers.set_look(colour_map=name))
        self.reset.clicked.connect(self._reset)
        self.labels.activated.connect(self._draw_labels)
        for signal in (viewing.looks_changed, viewing.lead_changed):
            signal.connect(self._follow)
        viewing.lead_ready.connect(self._suit)
        self.layers.changed.connect(self._suit)

    def _draw_labels(self) -> None:
        fill, edges = self.labels.currentData()
        self.viewing.set_label_look(fill=fill, edges=edges)

    @property
    def _image(self) -> Image | None:
        """The image whose look it is, when its values are there: the window does not wait for a file."""
        image = None if self.layers.chosen is None else self.layers.image(self.layers.chosen)
        return image if image is not None and image.in_memory else None

    def _reset(self) -> None:
        image, layers = self._image, self.layers
        if not self.viewing.ready or image is None:
            return
        leads = self.viewing.leads(layers.chosen) if layers.chosen is not None else True
        layers.set_look(**asdict(first_look(image) if leads else over_look(image)))

    def _suit(self) -> None:
        """Digits of the image's own range."""
        image = self._image
        if image is not None and not image.colour:
            with quietly(self.low, self.high):
                for field in (self.low, self.high):
                    field.suit_values(*image.display_range())
        self._follow()

    def _follow(self) -> None:
        layers, labels = self.layers, self.viewing.label_look
        look = layers.look if self.viewing.look is not None else None
        self.setVisible(look is not None)
        if look is None:
            return
        rows = layers.rows
        name = next((r.record.name for r in rows if r.record.id == layers.chosen), "")
        words = f"Look of “{name}”" if len(rows) > 1 else "Look"
        self.head.setText(self.head.fontMetrics().elidedText(words, Qt.TextElideMode.ElideRight, 250))
        with quietly(self.low, self.high):
            self.low.setValue(look.low)
            self.high.setValue(look.high)
        self.colours.setCurrentText(look.colour_map)
        known = [data for _, data in LABEL_LOOKS]
        at = (labels.fill, labels.edges)
        self.labels.setCurrentIndex(known.index(at) if at in known else 0)
