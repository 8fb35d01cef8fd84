"""Channels of a picture that are shown together, each as a light of its own colour."""

from __future__ import annotations

from PySide6.QtCore import QObject

from ...scene.layer import Channel
from ...scene.showing import for_showing
from ...scene.tiles import BASE
from .viewing import MOST_SHOWN, Viewing

MOST = 8
"""Channels that are shown together."""


class Channels(QObject):
    """Reads the channels of the picture that leads, when they are to be seen together."""

    def __init__(self, viewing: Viewing):
        super().__init__(viewing)
        self.viewing = viewing
        viewing.lead_ready.connect(self._follow)

    @property
    def axis(self) -> int | None:
        """Which axis of the series its channels lie along, None when it has none, or too many."""
        axes = self.viewing.record.axes if self.viewing.record is not None else ()
        found = next((n for n, axis in enumerate(axes) if axis.name == "channel"), None)
        return found if found is not None and axes[found].size <= MOST else None

    def show(self, channels: tuple[Channel, ...]) -> None:
        """Show them together, each in its colour and range; one at a time when there are none."""
        self.viewing.set_look(channels=tuple(channels))
        self._read()

    def _follow(self) -> None:
        look = self.viewing.look
        if self.viewing.channels or (look is not None and look.channels):
            self._read()

    def _read(self) -> None:
        viewing, axis = self.viewing, self.axis
        record, series, look = viewing.record, viewing.series, viewing.look
        if record is None or series is None or axis is None or look is None or not look.channels:
            viewing.channels = ()
            viewing.looks_changed.emit()
            return
        place = viewing.place
        wanted = tuple(
            for_showing(series.frame(tuple(n if k == axis else p for k, p in enumerate(place))), MOST_SHOWN, BASE)
            for n in range(record.axes[axis].size)
        )

        def read(progress) -> None:
            for one in wanted:
                one.fetch(progress)

        def put(_) -> None:
            if viewing.leads(record.id) and viewing.place == place:
                viewing.channels = wanted
                viewing.looks_changed.emit()

        viewing.session.work.start(f"Reading {record.name}", read, put, lane="view", loud=False)
