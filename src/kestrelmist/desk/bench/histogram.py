"""A small histogram of the image's values; the chosen range is lit and its ends can be dragged."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QPainter, QPen
from PySide6.QtWidgets import QWidget

from ...scene.histogram import BINS, ValueCounts
from ..theme.theme import Theme


class Histogram(QWidget):
    """Drag near an end of the lit range to move it."""

    changed = Signal(float, float)

    def __init__(self, parent=None):
        super().__init__(parent)
        self.setFixedHeight(58)
        self.setAccessibleName("Histogram with the range")
        self.setMouseTracking(True)
        self.counts = ValueCounts(np.zeros(BINS), 0.0, 1.0)
        self.range = (0.0, 1.0)
        self._drag: int | None = None

    def show_counts(self, counts: ValueCounts) -> None:
        self.counts = counts
        self.update()

    def show_range(self, low: float, high: float) -> None:
        self.range = (low, high)
        self.update()

    def x_of(self, value: float) -> float:
        low, high = self.counts.low, self.counts.high
        return min(max((value - low) / (high - low), 0.0), 1.0) * (self.width() - 1)

    def value_at(self, x: float) -> float:
        low, high = self.counts.low, self.counts.high
        return low + (high - low) * min(max(x / max(self.width() - 1, 1), 0), 1)

    head = 0
    """Pixels above the highest bar."""

    def paintEvent(self, event) -> None:
        t = Theme.tokens
        with QPainter(self) as painter:
            bottom, step = self.height() - 4, self.width() / BINS
            for n, (share, centre) in enumerate(zip(self.counts.heights, self.counts.centres)):
                height = min(share, 1.0) * (bottom - 4 - self.head)
                lit = self.range[0] <= centre <= self.range[1]
                painter.fillRect(
                    QRectF(n * step, bottom - height, max(step - 0.6, 1.0), height), QColor(t.rust if lit else t.soft)
                )
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            for value in self.range:
                x = self.x_of(value)
                painter.setPen(QPen(QColor(t.ink), 1.4))
                painter.drawLine(QPointF(x, 2), QPointF(x, bottom + 3))
            painter.setPen(QPen(QColor(t.hairline), 1))
            painter.drawLine(QPointF(0, bottom + 0.5), QPointF(self.width(), bottom + 0.5))

    def mousePressEvent(self, event) -> None:
        distances = [abs(event.position().x() - self.x_of(v)) for v in self.range]
        self._drag = int(np.argmin(distances))
        self.mouseMoveEvent(event)

    def mouseMoveEvent(self, event) -> None:
        self.setCursor(Qt.CursorShape.SplitHCursor)
        if self._drag is None:
            return
        ends = list(self.range)
        ends[self._drag] = self.value_at(event.position().x())
        self.show_range(min(ends), max(ends))
        self._drag = self._drag if ends[0] <= ends[1] else 1 - self._drag
        self.changed.emit(*self.range)

    def mouseReleaseEvent(self, event) -> None:
        self._drag = None
