"""A series played as a film: one volume after another, at a chosen rate."""

from __future__ import annotations

from PySide6.QtCore import QObject, QTimer, Signal

from .viewing import Viewing

RATES = (1, 2, 5, 10, 15, 25)
"""Volumes a second."""


class Film(QObject):
    """Goes along the first axis and begins again at its end. A volume that is still being read is waited for."""

    changed = Signal()

    def __init__(self, viewing: Viewing):
        super().__init__(viewing)
        self.viewing, self.rate = viewing, 10.0
        self._timer = QTimer(self)
        self._timer.timeout.connect(self._next)
        self._waits = 0
        viewing.lead_changed.connect(self.stop)

    @property
    def playing(self) -> bool:
        return self._timer.isActive()

    def toggle(self) -> None:
        self.stop() if self.playing else self.start()

    def start(self) -> None:
        record = self.viewing.record
        if record is None or not record.axes:
            self.viewing.session.trouble.emit("This image has one volume only: choose a series to play it.")
            return
        self._timer.start(max(1, round(1000 / self.rate)))
        self.changed.emit()

    def stop(self) -> None:
        if self.playing:
            self._timer.stop()
            self.changed.emit()

    def set_rate(self, rate: float) -> None:
        """Volumes a second, 0.1 to 60."""
        self.rate = min(max(float(rate), 0.1), 60.0)
        if self.playing:
            self._timer.start(max(1, round(1000 / self.rate)))

    def _next(self) -> None:
        viewing = self.viewing
        if not viewing.ready or viewing.record is None or not viewing.place or viewing.series is None:
            return
        shown = viewing.series.frame(viewing.place)
        if viewing.image is not None and not shown.in_memory and self._waits < 200:
            self._waits += 1  # the one that is wanted has not come yet
            return
        self._waits = 0
        viewing.go_along(0, (viewing.place[0] + 1) % viewing.record.axes[0].size)
