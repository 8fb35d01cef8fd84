"""A window under test in whose lead pane things are drawn."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QEvent, QPoint, Qt
from PySide6.QtGui import QMouseEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from kestrelmist.core.geometry.mark import Mark
from tests.desk_case import DeskCase

LEFT, NONE = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
ALT = Qt.KeyboardModifier.AltModifier


class DrawingCase(DeskCase):
    """Two balls lead in Measure; places count in pixels from the middle of the lead pane."""

    def setUp(self):
        super().setUp()
        self.study_with_balls().close()
        self.window = self.open(self.place / "study")
        self.desk, self.marks = self.window.desk, self.window.desk.marks
        self.study = self.desk.study
        self.viewing = self.desk.viewing
        self.viewing.set_stage("Measure")
        self.settle(self.window)
        self.canvas = self.window.table.panes[0].canvas

    def at(self, dx: int, dy: int) -> QPoint:
        """A place so many pixels from the middle of the lead pane."""
        return QPoint(self.canvas.width() // 2 + dx, self.canvas.height() // 2 + dy)

    def world(self, dx: int, dy: int) -> np.ndarray:
        return self.canvas.world_at(self.at(dx, dy).toPointF())

    def draw(self, start, end, keys=NONE, let_go: bool = True) -> None:
        middle = [(a + b) // 2 for a, b in zip(start, end)]
        QTest.mousePress(self.canvas, LEFT, NONE, self.at(*start))
        for place in (middle, end):
            self.move(place, keys)
        if let_go:
            QTest.mouseRelease(self.canvas, LEFT, keys, self.at(*end))

    def move(self, to, keys=NONE) -> None:
        """Move with the button down, which the test's own way does not tell."""
        place = self.at(*to).toPointF()
        event = QMouseEvent(QEvent.Type.MouseMove, place, self.canvas.mapToGlobal(place), LEFT, LEFT, keys)
        QApplication.sendEvent(self.canvas, event)

    def drag(self, places, keys=NONE) -> None:
        """A drag through places."""
        QTest.mousePress(self.canvas, LEFT, keys, self.at(*places[0]))
        for a, b in zip(places, places[1:]):
            for share in (0.25, 0.5, 0.75, 1.0):
                self.move((round(a[0] + share * (b[0] - a[0])), round(a[1] + share * (b[1] - a[1]))), keys)
        QTest.mouseRelease(self.canvas, LEFT, keys, self.at(*places[-1]))

    def press(self, dx: int, dy: int, keys=NONE) -> None:
        QTest.mouseClick(self.canvas, LEFT, keys, self.at(dx, dy))

    def key(self, key, keys=NONE) -> None:
        QTest.keyClick(self.canvas, key, keys)

    def drawn(self) -> list[Mark]:
        return list(self.study.marks.on(self.viewing.record.id))
