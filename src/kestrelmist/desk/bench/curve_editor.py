"""The curve of a volume's look over the histogram of its values: points are dragged, added, taken away, typed."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QBrush, QColor, QLinearGradient, QPainter, QPen, QPolygonF
from PySide6.QtWidgets import QWidget

from ...scene.histogram import BINS, ValueCounts
from ...scene.solid.volume_look import VolumeLook
from ..theme.theme import Theme
from ..widgets.plain_text import plain_tip

NEAR = 9.0
"""Pixels within which a point is taken hold of."""
MARGIN = 7.0


class CurveEditor(QWidget):
    """Drag a point; click beside the line adds one; a double click on a point, or Delete, takes it away."""

    changed = Signal(object)
    """Another look."""
    chosen_changed = Signal()

    def __init__(self, parent=None):
        super().__init__(parent)
        self.setFixedHeight(104)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Curve of colour and opacity over the values")
        self.setToolTip(
            plain_tip("Drag a point. Click beside the line to add one, double-click a point to take it away.")
        )
        self.counts = ValueCounts(np.zeros(BINS), 0.0, 1.0)
        self.look: VolumeLook | None = None
        self.chosen = 0
        self._drag: int | None = None

    def show_counts(self, counts: ValueCounts) -> None:
        self.counts = counts
        self.update()

    def show_look(self, look: VolumeLook | None) -> None:
        self.look = look
        if look is not None:
            self.chosen = min(self.chosen, len(look.points) - 1)
        self.update()

    # where things are

    @property
    def ends(self) -> tuple[float, float]:
        """Values at the left and right end: those of the histogram, and of points beyond it."""
        low, high = self.counts.low, self.counts.high
        if self.look is not None:
            at = [value for value, _, _ in self.look.points]
            low, high = min(low, *at), max(high, *at)
        return (low, high) if high > low else (low, low + 1.0)

    def x_of(self, value: float) -> float:
        low, high = self.ends
        return MARGIN + (value - low) / (high - low) * max(1.0, self.width() - 2 * MARGIN)

    def value_at(self, x: float) -> float:
        low, high = self.ends
        return low + (high - low) * min(max((x - MARGIN) / max(1.0, self.width() - 2 * MARGIN), 0.0), 1.0)

    def y_of(self, opacity: float) -> float:
        return MARGIN + (1 - opacity) * (self.height() - 22 - MARGIN)

    def opacity_at(self, y: float) -> float:
        return min(max(1 - (y - MARGIN) / (self.height() - 22 - MARGIN), 0.0), 1.0)

    def point_at(self, place: QPointF) -> int | None:
        """The point of the curve near a place of the widget."""
        if self.look is None:
            return None
        away = [
            (place.x() - self.x_of(value)) ** 2 + (place.y() - self.y_of(opacity)) ** 2
            for value, _, opacity in self.look.points
        ]
        n = int(np.argmin(away))
        return n if away[n] <= NEAR**2 else None

    # drawing

    def paintEvent(self, event) -> None:
        t = Theme.tokens
        with QPainter(self) as painter:
            bottom = self.height() - 22.0
            low, high = self.ends
            step = (self.counts.high - self.counts.low) / BINS
            for share, centre in zip(self.counts.heights, self.counts.centres):
                left, right = self.x_of(centre - step / 2), self.x_of(centre + step / 2)
                tall = min(share, 1.0) * (bottom - MARGIN)
                painter.fillRect(QRectF(left, bottom - tall, max(1.0, right - left - 0.4), tall), QColor(t.hairline))
            painter.setPen(QPen(QColor(t.hairline), 1))
            painter.drawLine(QPointF(MARGIN, bottom + 0.5), QPointF(self.width() - MARGIN, bottom + 0.5))
            if self.look is None:
                return
            colours = QLinearGradient(self.x_of(low), 0, self.x_of(high), 0)
            for value, colour, _ in self.look.points:
                colours.setColorAt(min(1.0, max(0.0, (value - low) / (high - low))), QColor(colour))
            painter.fillRect(QRectF(MARGIN, bottom + 4, self.width() - 2 * MARGIN, 9), QBrush(colours))
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            places = [QPointF(self.x_of(value), self.y_of(opacity)) for value, _, opacity in self.look.points]
            line = [QPointF(MARGIN, places[0].y()), *places, QPointF(self.width() - MARGIN, places[-1].y())]
            painter.setPen(QPen(QColor(t.ink), 1.6))
            painter.drawPolyline(QPolygonF(line))
            for n, (place, (_, colour, _)) in enumerate(zip(places, self.look.points)):
                painter.setPen(QPen(QColor(t.rust if n == self.chosen else t.ink), 2.4 if n == self.chosen else 1.4))
                painter.setBrush(QColor(colour))
                painter.drawEllipse(place, 5.0, 5.0)
            if self.hasFocus():
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.setPen(QPen(QColor(t.rust), 1.2))
                painter.drawRoundedRect(QRectF(0.6, 0.6, self.width() - 1.2, self.height() - 1.2), 4, 4)

    # hands

    def choose(self, n: int) -> None:
        self.chosen = n
        self.chosen_changed.emit()
        self.update()

    def mousePressEvent(self, event) -> None:
        if self.look is None or event.button() != Qt.MouseButton.LeftButton:
            return
        n = self.point_at(event.position())
        if n is None:
            value, opacity = self.value_at(event.position().x()), self.opacity_at(event.position().y())
            look = self.look.with_point(value, self.look.at(value)[0], opacity)
            n = next((m for m, point in enumerate(look.points) if point[0] == value), 0)
            self._give(look)
        self._drag = n
        self.choose(n)

    def mouseMoveEvent(self, event) -> None:
        if self._drag is not None and self.look is not None and self._drag < len(self.look.points):
            at = event.position()
            self._give(self.look.moved(self._drag, self.value_at(at.x()), self.opacity_at(at.y())))

    def mouseReleaseEvent(self, event) -> None:
        self._drag = None

    def mouseDoubleClickEvent(self, event) -> None:
        n = self.point_at(event.position())
        if n is not None:
            self._drag = None
            self.take_away(n)

    def take_away(self, n: int | None = None) -> None:
        """Take a point away, the chosen one when none is named."""
        if self.look is not None:
            self._give(self.look.without(self.chosen if n is None else n))
            self.choose(min(self.chosen, len(self.look.points) - 1))

    def keyPressEvent(self, event) -> None:
        if self.look is None:
            return
        value, _, opacity = self.look.points[self.chosen]
        low, high = self.ends
        steps = {
            Qt.Key.Key_Left: (-0.01 * (high - low), 0.0),
            Qt.Key.Key_Right: (0.01 * (high - low), 0.0),
            Qt.Key.Key_Up: (0.0, 0.02),
            Qt.Key.Key_Down: (0.0, -0.02),
        }
        if event.key() in steps:
            by = steps[event.key()]
            self._give(self.look.moved(self.chosen, value + by[0], min(1.0, max(0.0, opacity + by[1]))))
        elif event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            self.take_away()
        elif event.key() in (Qt.Key.Key_PageUp, Qt.Key.Key_PageDown):
            step = -1 if event.key() == Qt.Key.Key_PageUp else 1
            self.choose((self.chosen + step) % len(self.look.points))
        else:
            super().keyPressEvent(event)

    def _give(self, look: VolumeLook) -> None:
        self.look = look
        self.changed.emit(look)
        self.chosen_changed.emit()
        self.update()
