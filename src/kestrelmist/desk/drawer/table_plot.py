"""The rows of a table as points or as a histogram, with the gate that a hand draws round some."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QImage, QPainter, QPen, QPolygonF
from PySide6.QtWidgets import QWidget

from ...core.gate import inside_area
from ...core.labels import PALETTE
from ..models.gating import Gating
from ..theme.theme import Theme, figures, words
from .plot_axes import PlotAxis

LEFT, BOTTOM, TOP, RIGHT = 50, 34, 6, 8
"""Pixels round the points, for ticks and titles."""
BARS = 64
CLICK = 4
"""Pixels that a hand may move and have clicked all the same."""
NEAR = 8
"""Pixels from a point at which a click is still on it."""
NAMED = 8
"""Classes that are named."""
FEW = 3_000
"""Rows up to which points are drawn larger."""


class TablePlot(QWidget):
    """Draw round points, or along a histogram, for a gate; drag a gate to move it; click a point for its row."""

    chosen = Signal(int)
    """A row was clicked."""

    def __init__(self, gating: Gating):
        super().__init__()
        self.gating = gating
        self.row: int | None = None
        """The one that is lit."""
        self.setMinimumSize(240, 150)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.ClickFocus)
        self.setAccessibleName("Plot of the table")
        self._axes: tuple[PlotAxis, PlotAxis] = PlotAxis(0, 1), PlotAxis(0, 1)
        self._counts = np.zeros(BARS)
        self._points: QImage | None = None
        self._drawn: list[QPointF] = []
        self._moved: np.ndarray | None = None
        self._from: QPointF | None = None
        """Where the hand began; None while there is no gesture."""
        gating.changed.connect(self._anew)
        gating.gated.connect(self._regate)

    # places

    @property
    def room(self) -> QRectF:
        """Where points lie."""
        return QRectF(LEFT, TOP, max(10, self.width() - LEFT - RIGHT), max(10, self.height() - TOP - BOTTOM))

    def to_widget(self, x: float, y: float) -> QPointF:
        """Where something along the axes is drawn."""
        room, (across, up) = self.room, self._axes
        return QPointF(room.left() + across.share(x) * room.width(), room.bottom() - up.share(y) * room.height())

    def to_axes(self, at: QPointF) -> tuple[float, float]:
        """What lies under a place of the widget."""
        room, (across, up) = self.room, self._axes
        return (float(across.value((at.x() - room.left()) / room.width())),
                float(up.value((room.bottom() - at.y()) / room.height())))  # fmt: skip

    # what is drawn

    def _anew(self) -> None:
        self.row, self._points = None, None
        self._from, self._drawn, self._moved = None, [], None  # a gesture on what was plotted before has ended
        gating = self.gating
        if gating.table is None or not gating.x:
            self.update()
            return
        across = gating.values(gating.x, gating.log_x)
        axis = PlotAxis.round(across, gating.log_x)
        if gating.y:
            self._axes = axis, PlotAxis.round(gating.values(gating.y, gating.log_y), gating.log_y)
        else:
            there = across[np.isfinite(across)]
            self._counts, _ = np.histogram(there, BARS, (axis.low, axis.high))
            self._axes = axis, PlotAxis(0.0, 1.05 * max(1, int(self._counts.max(initial=1))))
        self.update()

    def _regate(self) -> None:
        self._points = None
        self.update()

    def light(self, row: int | None) -> None:
        """Light one row."""
        if row != self.row:
            self.row = row
            self.update()

    def _picture(self) -> QImage:
        """All points, the darker the more lie on one another; those inside the gate, or of a class, in its colour."""
        gating, room = self.gating, self.room
        width, height = int(room.width()), int(room.height())
        x, y = gating.values(gating.x, gating.log_x), gating.values(gating.y, gating.log_y)
        with np.errstate(invalid="ignore"):
            right, down = self._axes[0].share(x) * width, (1 - self._axes[1].share(y)) * height
            there = np.flatnonzero((right >= 0) & (right < width) & (down >= 0) & (down < height))
        at = down[there].astype(np.intp) * width + right[there].astype(np.intp)
        kind, names = gating.classes()
        kind = kind[there]
        colours = [Theme.tokens.ink, *map(_colour, range(len(names)))]
        if gating.inside is not None:
            kind, colours = np.where(gating.inside[there], len(colours), kind), [*colours, Theme.tokens.rust]
        ground = np.array(QColor(Theme.tokens.field).getRgb()[:3], np.float32)
        total = np.zeros(width * height, np.float32)
        mixed = np.zeros((width * height, 3), np.float32)
        for n, colour in enumerate(colours):
            count = np.bincount(at[kind == n], minlength=width * height).astype(np.float32)
            if len(there) <= FEW:
                count = _wider(count.reshape(height, width)).reshape(-1)
            total += count
            mixed += count[:, None] * np.array(QColor(colour).getRgb()[:3], np.float32)
        lit = np.flatnonzero(total)
        usual = float(np.percentile(total[lit], 95)) if lit.size else 1.0
        strength = np.clip(0.35 + 0.65 * np.log1p(total[lit]) / np.log1p(max(usual, 1.0)), 0, 1)[:, None]
        picture = np.empty((width * height, 3), np.float32)
        picture[:] = ground
        picture[lit] = (1 - strength) * ground + strength * mixed[lit] / total[lit, None]
        packed = np.full(width * height, 0xFF000000, np.uint32)
        for n, shift in enumerate((16, 8, 0)):
            packed |= picture[:, n].astype(np.uint32) << np.uint32(shift)
        # the picture holds no memory of its own until it is copied
        return QImage(packed.data, width, height, 4 * width, QImage.Format.Format_RGB32).copy()

    def paintEvent(self, event) -> None:
        gating, t = self.gating, Theme.tokens
        if gating.table is not None and gating.y and self._points is None:
            self._points = self._picture()
        with QPainter(self) as painter:
            room = self.room
            painter.fillRect(room, QColor(t.field))
            if gating.table is None or not gating.x:
                painter.setFont(words(13))
                painter.setPen(QColor(t.soft))
                painter.drawText(room, Qt.AlignmentFlag.AlignCenter, "This table has no columns of numbers.")
                return
            if gating.y and self._points is not None:
                painter.drawImage(room.topLeft(), self._points)
            else:
                self._paint_bars(painter)
            self._paint_axes(painter)
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setClipRect(room)
            self._paint_gate(painter)
            self._paint_row(painter)
            self._paint_names(painter)

    def _paint_names(self, painter: QPainter) -> None:
        """What the classes are called, in their colours."""
        _, names = self.gating.classes() if self.gating.y else (None, [])
        painter.setFont(words(12))
        for n, name in enumerate(names[:NAMED]):
            box = QRectF(self.room.left() + 6, self.room.top() + 4 + 16 * n, self.room.width() - 12, 16)
            flags = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
            text = painter.fontMetrics().elidedText(name, Qt.TextElideMode.ElideRight, int(box.width() * 0.6))
            wide = painter.fontMetrics().horizontalAdvance(text)
            painter.fillRect(QRectF(box.right() - wide - 16, box.center().y() - 4, 8, 8), QColor(_colour(n)))
            painter.setPen(QColor(Theme.tokens.ink))
            painter.drawText(box, flags, text)

    def _paint_bars(self, painter: QPainter) -> None:
        t, (axis, _) = Theme.tokens, self._axes
        ends = self._places()
        for n, count in enumerate(self._counts):
            low, high = axis.value(n / BARS), axis.value((n + 1) / BARS)
            a, b = self.to_widget(low, float(count)), self.to_widget(high, 0.0)
            middle = (low + high) / 2
            lit = ends is not None and ends[:, 0].min() <= middle <= ends[:, 0].max()
            painter.fillRect(QRectF(a.x(), a.y(), max(1.0, b.x() - a.x() - 0.6), b.y() - a.y()),
                             QColor(t.rust if lit else t.soft))  # fmt: skip

    def _paint_axes(self, painter: QPainter) -> None:
        t, room, gating = Theme.tokens, self.room, self.gating
        painter.setFont(figures(11))
        for upright, axis in enumerate(self._axes):
            for value, text in axis.ticks(4 if upright else max(2, int(room.width() / 70))):
                at = self.to_widget(*((self._axes[0].low, value) if upright else (value, self._axes[1].low)))
                painter.setPen(QPen(QColor(t.edge), 1))
                painter.drawLine(at, at + (QPointF(-4, 0) if upright else QPointF(0, 4)))
                painter.setPen(QColor(t.soft))
                if upright:
                    box, flags = QRectF(at.x() - LEFT, at.y() - 8, LEFT - 7, 16), Qt.AlignmentFlag.AlignRight
                else:
                    box, flags = QRectF(at.x() - 36, at.y() + 4, 72, 14), Qt.AlignmentFlag.AlignHCenter
                painter.drawText(box, flags | Qt.AlignmentFlag.AlignVCenter, text)
        painter.setPen(QPen(QColor(t.edge), 1))
        painter.drawRect(room.adjusted(-0.5, -0.5, 0.5, 0.5))
        painter.setFont(words(12))
        painter.setPen(QColor(t.ink))
        below = QRectF(room.left(), room.bottom() + 17, room.width(), 16)
        painter.drawText(below, Qt.AlignmentFlag.AlignCenter, gating.unit_of(gating.x))
        painter.save()
        painter.translate(11, room.center().y())
        painter.rotate(-90)
        beside = QRectF(-room.height() / 2, -9, room.height(), 16)
        painter.drawText(beside, Qt.AlignmentFlag.AlignCenter, gating.unit_of(gating.y) if gating.y else "rows")
        painter.restore()

    def _places(self) -> np.ndarray | None:
        """The gate as a hand moves or draws it, or as it is."""
        if self._moved is not None:
            return self._moved
        if not self.gating.y and self._drawn:
            return np.array([self.to_axes(self._drawn[0])[:1], self.to_axes(self._drawn[-1])[:1]])
        return self.gating.places()

    def _paint_gate(self, painter: QPainter) -> None:
        painter.setPen(QPen(QColor(Theme.tokens.rust), 1.6))
        if self.gating.y and self._drawn:
            painter.drawPolyline(QPolygonF(self._drawn))
            return
        places = self._places()
        if places is None:
            return
        if places.shape[1] == 1:
            for value in places[:, 0]:
                at = self.to_widget(value, 0.0).x()
                painter.drawLine(QPointF(at, self.room.top()), QPointF(at, self.room.bottom()))
        else:
            painter.drawPolygon(QPolygonF([self.to_widget(*one) for one in places]))

    def _paint_row(self, painter: QPainter) -> None:
        at = None if self.row is None else self._at_row(self.row)
        if at is not None:
            for colour, wide in ((Theme.tokens.field, 4.0), (Theme.tokens.ink, 1.8)):
                painter.setPen(QPen(QColor(colour), wide))
                painter.drawEllipse(at, 5, 5)

    def _at_row(self, row: int) -> QPointF | None:
        gating = self.gating
        if gating.table is None or not 0 <= row < gating.table.count:
            return None
        x = float(gating.values(gating.x, gating.log_x)[row])
        y = float(gating.values(gating.y, gating.log_y)[row]) if gating.y else 0.0
        return self.to_widget(x, y) if np.isfinite([x, y]).all() else None

    # hands

    def mousePressEvent(self, event) -> None:
        if event.button() != Qt.MouseButton.LeftButton or self.gating.table is None or not self.gating.x:
            return
        self._from = event.position()
        places = self.gating.places()
        x, y = self.to_axes(event.position())
        inside = places is not None and (
            places[:, 0].min() <= x <= places[:, 0].max()
            if places.shape[1] == 1
            else bool(inside_area(np.array([x]), np.array([y]), places)[0])
        )
        self._moved, self._drawn = (places, []) if inside else (None, [event.position()])

    def mouseMoveEvent(self, event) -> None:
        if self._from is None:
            return
        if self._moved is not None:
            places, now, then = self.gating.places(), self.to_axes(event.position()), self.to_axes(self._from)
            if places is not None:
                self._moved = places + np.subtract(now, then)[: places.shape[1]]
        elif not self.gating.y:
            self._drawn = [self._drawn[0], event.position()]
        elif (event.position() - self._drawn[-1]).manhattanLength() >= 2:
            self._drawn.append(event.position())
        self.update()

    def mouseReleaseEvent(self, event) -> None:
        if self._from is None or event.button() != Qt.MouseButton.LeftButton:
            return
        clicked = (event.position() - self._from).manhattanLength() <= CLICK and len(self._drawn) < 8
        drawn, moved = self._drawn, self._moved
        self._from, self._drawn, self._moved = None, [], None
        if clicked:
            self._click(event.position())
        elif moved is not None:
            self.gating.draw(moved if moved.shape[1] == 2 else moved[:, 0])
        elif not self.gating.y:
            self.gating.draw(np.array([self.to_axes(drawn[0])[0], self.to_axes(event.position())[0]]))
        elif len(drawn) >= 3:
            self.gating.draw(np.array([self.to_axes(one) for one in drawn]))
        self.update()

    def keyPressEvent(self, event) -> None:
        if event.key() == Qt.Key.Key_Escape and (self._from is not None or self.gating.gate is not None):
            self._from, self._drawn, self._moved = None, [], None
            self.gating.clear()
            self.update()
        else:
            super().keyPressEvent(event)

    def _click(self, at: QPointF) -> None:
        """The row whose point lies nearest, when it is near."""
        gating, room = self.gating, self.room
        if not gating.y:
            return
        x, y = gating.values(gating.x, gating.log_x), gating.values(gating.y, gating.log_y)
        now = self.to_axes(at)
        across = (x - now[0]) / (self._axes[0].high - self._axes[0].low) * room.width()
        up = (y - now[1]) / (self._axes[1].high - self._axes[1].low) * room.height()
        away = np.where(np.isfinite(across) & np.isfinite(up), np.hypot(across, up), np.inf)
        if len(away) and away.min() <= NEAR:
            self.chosen.emit(int(away.argmin()))

    def resizeEvent(self, event) -> None:
        self._points = None


def _colour(n: int) -> str:
    """Of a class."""
    return PALETTE[n % len(PALETTE)]


def _wider(count: np.ndarray) -> np.ndarray:
    """Each point as 3 by 3 pixels."""
    made = np.zeros_like(count)
    height, width = count.shape
    for down in (-1, 0, 1):
        for right in (-1, 0, 1):
            a, b = slice(max(0, down), height + min(0, down)), slice(max(0, -down), height + min(0, -down))
            c, d = slice(max(0, right), width + min(0, right)), slice(max(0, -right), width + min(0, -right))
            np.maximum(made[a, c], count[b, d], out=made[a, c])
    return made
