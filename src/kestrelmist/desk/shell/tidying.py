"""Looking for garbage while nobody waits: a whole look takes longer than a window may rest."""

from __future__ import annotations

import gc

from PySide6.QtCore import QObject, Qt, QTimer
from PySide6.QtWidgets import QApplication

from ..models.desk_model import Desk

EVERY = (700, 10, 500)
"""How often Python looks for garbage by itself once everything is loaded: at all that there is hardly ever."""
CALM = 1500
"""Milliseconds without work after which all is looked through."""


class Tidying(QObject):
    """What work leaves behind goes when it has ended and no hand is at anything."""

    def __init__(self, desk: Desk, parent: QObject):
        super().__init__(parent)
        self.desk, self.looked = desk, 0
        self._timer = QTimer(self, singleShot=True, interval=CALM)
        self._timer.timeout.connect(self._look)
        desk.session.work.changed.connect(self._timer.start)

    def _look(self) -> None:
        busy = not self.desk.session.work.idle or self.desk.hand.gesture is not None
        if busy or QApplication.mouseButtons() != Qt.MouseButton.NoButton:
            self._timer.start()
            return
        self.looked += 1
        gc.collect()
