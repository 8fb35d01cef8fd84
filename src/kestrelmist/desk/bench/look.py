"""Look: how the chosen layer is shown, and where the crosshair is; the same in every stage."""

from __future__ import annotations

from dataclasses import asdict, replace

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from ...core.image import Image
from ...scene.first_look import first_look, over_look
from ...scene.showing import display_range
from ..models.desk_model import Desk
from ..widgets.number_field import number
from .go_to import GoTo
from .look_channels import ChannelsPanel
from .look_colours import ColoursPanel, map_box
from .look_crosshair import CrosshairPanel
from .look_labels import LabelsPanel
from .look_range import RangePanel
from .places import PlacesPanel
from .rows import quietly, row, section


class LookPanel(QWidget):
    """Range and colours always, what is wanted seldom behind "More"."""

    def __init__(self, desk: Desk):
        super().__init__()
        self.desk, self.viewing, self.layers = desk, desk.viewing, desk.layers
        self.low = number(-1e12, 1e12, 1, "", "Display range from", follows=True)
        self.high = number(-1e12, 1e12, 1, "", "Display range to", follows=True)
        self.colours = map_box("Colour map")
        self.reset, self.more = QPushButton("Reset"), QPushButton("More")
        for button in (self.reset, self.more):
            button.setProperty("kind", "small")
        self.more.setCheckable(True)
        self.go = GoTo(desk)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(5)
        self.head = section("Look")
        top = QHBoxLayout()
        top.addWidget(self.head, 1)
        top.addWidget(self.more)
        top.addWidget(self.reset)
        column.addLayout(top)
        self.places = PlacesPanel(desk)
        column.addWidget(self.places)
        self.values = QWidget()
        inside = QVBoxLayout(self.values)
        inside.setContentsMargins(0, 0, 0, 0)
        inside.setSpacing(5)
        inside.addLayout(row("Range", self.low, self.high, width=56))
        self.range = RangePanel(desk)
        inside.addWidget(self.range)
        inside.addLayout(row("Colours", self.colours, width=56))
        column.addWidget(self.values)
        self.channels = ChannelsPanel(desk)
        column.addWidget(self.channels)
        self.rest = ColoursPanel(desk)
        column.addWidget(self.rest)
        self.label_panel = LabelsPanel(desk, self.more)
        self.labels = self.label_panel.how
        column.addWidget(self.label_panel)
        self.crosshair = CrosshairPanel(desk)
        column.addWidget(self.crosshair)
        column.addLayout(row("Go to", self.go, width=56))
        viewing = self.viewing
        self.low.valueChanged.connect(lambda v: self.layers.set_look(low=v))
        self.high.valueChanged.connect(lambda v: self.layers.set_look(high=v))
        self.colours.textActivated.connect(lambda name: self.layers.set_look(colour_map=name))
        self.reset.clicked.connect(self._reset)
        self.more.toggled.connect(self._unfold)
        for signal in (viewing.looks_changed, viewing.lead_changed):
            signal.connect(self._follow)
        viewing.lead_ready.connect(self._suit)
        self.layers.changed.connect(self._suit)
        self._unfold(False)

    def _unfold(self, on: bool) -> None:
        self.more.setText("Less" if on else "More")
        self.range.set_whole(on)
        self.rest.setVisible(on and self._has_values)
        self.channels.set_whole(on)
        self.label_panel.set_whole(on)
        self.crosshair.setVisible(on)

    @property
    def _image(self) -> Image | None:
        """The image whose look it is, when its values are there: the window does not wait for a file."""
        image = None if self.layers.chosen is None else self.layers.image(self.layers.chosen)
        return image if image is not None and image.in_memory else None

    @property
    def _has_values(self) -> bool:
        """Whether limits and colour maps have a meaning: not so for true colours."""
        image = None if self.layers.chosen is None else self.layers.image(self.layers.chosen)
        return image is None or not image.colour

    def _reset(self) -> None:
        image, layers = self._image, self.layers
        if not self.viewing.ready or image is None:
            return
        leads = self.viewing.leads(layers.chosen) if layers.chosen is not None else True
        layers.set_look(**asdict(replace(first_look(image) if leads else over_look(image))))
        if leads:
            self.desk.channels.show(())

    def _suit(self) -> None:
        """Digits of the image's own range."""
        image = self._image
        if image is not None and not image.colour:
            with quietly(self.low, self.high):
                for field in (self.low, self.high):
                    field.suit_values(*display_range(image))
        self._follow()

    def _follow(self) -> None:
        layers = self.layers
        look = layers.look if self.viewing.look is not None else None
        self.setVisible(look is not None)
        if look is None:
            return
        rows = layers.rows
        name = next((r.record.name for r in rows if r.record.id == layers.chosen), "")
        words = f"Look of “{name}”" if len(rows) > 1 else "Look"
        self.head.setText(self.head.fontMetrics().elidedText(words, Qt.TextElideMode.ElideRight, 128))
        with quietly(self.low, self.high, self.colours):
            self.low.setValue(look.low)
            self.high.setValue(look.high)
            self.colours.setCurrentText(look.colour_map)
        together = bool(look.channels)
        self.values.setVisible(self._has_values and not together)
        self.rest.setVisible(self.more.isChecked() and self._has_values and not together)
