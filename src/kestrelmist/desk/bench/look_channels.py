"""Channels of a picture shown together: a colour and a range for each, mixed by adding light."""

from __future__ import annotations

from PySide6.QtGui import QColor, QIcon, QPixmap
from PySide6.QtWidgets import QCheckBox, QColorDialog, QGridLayout, QToolButton, QVBoxLayout, QWidget

from ...core.image import Image
from ...scene.layer import Channel
from ...scene.showing import for_showing, own_range
from ..models.desk_model import Desk
from ..models.viewing import MOST_SHOWN
from ..widgets.number_field import NumberField, number
from ..widgets.plain_text import plain_tip
from .rows import quietly

LIGHTS = ("#F0B263", "#4FB3D9", "#E0679A", "#7CC36A", "#B79CE8", "#E8E2D0", "#D9534A", "#3F6FD8")
"""Colours that channels are given at first; two that are next to each other are told apart when they add up."""


def first_channels(series: Image, axis: int, place: tuple[int, ...]) -> tuple[Channel, ...]:
    """A colour and a range for each channel; reads the volumes of all."""
    found = []
    for n in range(series.axes[axis].size):
        frame = series.frame(tuple(n if k == axis else p for k, p in enumerate(place)))
        low, high = own_range(for_showing(frame, MOST_SHOWN))
        found.append((LIGHTS[n % len(LIGHTS)], low, high, True))
    return tuple(found)


class ChannelsPanel(QWidget):
    """Seen for pictures with channels."""

    def __init__(self, desk: Desk):
        super().__init__()
        self.desk, self.viewing, self.layers = desk, desk.viewing, desk.layers
        self.together = QCheckBox("Channels together")
        self.together.setToolTip("Show all channels at once, each as a light of its colour")
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        column.addWidget(self.together)
        self._grid = QGridLayout()
        self._grid.setSpacing(4)
        column.addLayout(self._grid)
        self.shown: list[QCheckBox] = []
        self.colour: list[QToolButton] = []
        self.low: list[NumberField] = []
        self.high: list[NumberField] = []
        self.together.toggled.connect(self._toggle)
        for signal in (self.viewing.lead_ready, self.viewing.looks_changed, self.layers.changed):
            signal.connect(self._follow)
        self._follow()

    def set_whole(self, on: bool) -> None:
        """It is small enough to be seen wholly at all times."""

    def _toggle(self, on: bool) -> None:
        axis, series, viewing = self.desk.channels.axis, self.viewing.series, self.viewing
        record = viewing.record
        if not on or axis is None or series is None or record is None:
            self.desk.channels.show(())
            return
        place = viewing.place

        def put(channels) -> None:
            if viewing.leads(record.id):
                self.desk.channels.show(channels)

        self.desk.session.work.start(
            "Channels", lambda progress: first_channels(series, axis, place), put, lane="view", loud=False
        )

    @property
    def channels(self) -> tuple[Channel, ...]:
        look = self.viewing.look
        return look.channels if look is not None else ()

    def change(self, n: int, **changes) -> None:
        """Change "colour", "low", "high" or "shown" of one channel."""
        channels = list(self.channels)
        facts = dict(zip(("colour", "low", "high", "shown"), channels[n])) | changes
        channels[n] = (facts["colour"], facts["low"], facts["high"], facts["shown"])
        self.viewing.set_look(channels=tuple(channels))

    def _ask_colour(self, n: int) -> None:
        chosen = QColorDialog.getColor(QColor(self.channels[n][0]), self, "Colour of the channel")
        if chosen.isValid():
            self.change(n, colour=chosen.name().upper())

    def _build(self, count: int) -> None:
        while self._grid.count():
            widget = self._grid.takeAt(0).widget()
            widget.hide()
            widget.deleteLater()
        self.shown, self.colour, self.low, self.high = [], [], [], []
        for n in range(count):
            shown, colour = QCheckBox(), QToolButton()
            low = number(-1e12, 1e12, 1, "", f"Channel {n + 1} dark at", follows=True)
            high = number(-1e12, 1e12, 1, "", f"Channel {n + 1} full at", follows=True)
            colour.setAccessibleName(f"Colour of channel {n + 1}")
            colour.setToolTip(plain_tip("Choose the colour of its light"))
            shown.toggled.connect(lambda on, n=n: self.change(n, shown=on))
            colour.clicked.connect(lambda _, n=n: self._ask_colour(n))
            low.valueChanged.connect(lambda v, n=n: self.change(n, low=v))
            high.valueChanged.connect(lambda v, n=n: self.change(n, high=v))
            for field in (low, high):
                field.setMinimumWidth(58)
                field.setMaximumWidth(74)
            for k, widget in enumerate((colour, shown, low, high)):
                self._grid.addWidget(widget, n, k)
            self._grid.setColumnStretch(1, 1)
            for into, widget in zip((self.shown, self.colour, self.low, self.high), (shown, colour, low, high)):
                into.append(widget)  # type: ignore[attr-defined]

    def _follow(self) -> None:
        axis, record = self.desk.channels.axis, self.viewing.record
        leads = self.layers.chosen is not None and self.viewing.leads(self.layers.chosen)
        self.setVisible(axis is not None and leads)
        if axis is None or record is None or not leads:
            return
        channels = self.channels
        with quietly(self.together):
            self.together.setChecked(bool(channels))
        if len(channels) != len(self.shown):
            self._build(len(channels))
        for n, (colour, low, high, shown) in enumerate(channels):
            with quietly(self.shown[n], self.low[n], self.high[n]):
                self.shown[n].setText(record.axes[axis].words(n)[:9])
                self.shown[n].setChecked(shown)
                for field, value in ((self.low[n], low), (self.high[n], high)):
                    field.suit_values(low, high)
                    field.setValue(value)
            pixmap = QPixmap(14, 14)
            pixmap.fill(QColor(colour))
            self.colour[n].setIcon(QIcon(pixmap))
