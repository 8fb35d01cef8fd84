"""Every volume of a series in one pane: the lead plane's slice through the crosshair, one small picture a volume."""

from __future__ import annotations

import math

import numpy as np
from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QColor, QImage, QPainter, QPen
from PySide6.QtWidgets import QHBoxLayout, QScrollBar, QVBoxLayout, QWidget

from ...scene.drawing import draw
from ...scene.layer_type import Drawn
from ...scene.showing import for_showing
from ...scene.view import PLANES, fitted, through
from ..models.desk_model import Desk
from ..theme.theme import Theme, figures, words
from .pane_header import PaneHeader

LEAST = 110
"""Pixels across the smallest picture."""
KEPT = 512
"""Pictures that are kept; those looked at longest ago go first."""


class TimesPane(QWidget):
    """Header, pictures and a scroll bar. A click shows that volume in the other panes."""

    def __init__(self, desk: Desk, parent=None):
        super().__init__(parent)
        self.desk, self.viewing = desk, desk.viewing
        self.header, self.bar = PaneHeader("All volumes"), QScrollBar(Qt.Orientation.Vertical)
        self.header.float.hide()
        self.sheet = TimesSheet(desk, self.bar)
        row = QHBoxLayout()
        row.setSpacing(0)
        row.addWidget(self.sheet, 1)
        row.addWidget(self.bar)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.header)
        column.addLayout(row, 1)


class TimesSheet(QWidget):
    """The pictures. They are drawn beside the window, those in view only."""

    def __init__(self, desk: Desk, bar: QScrollBar):
        super().__init__()
        self.desk, self.viewing, self.bar = desk, desk.viewing, bar
        self._pictures: dict[tuple, QImage] = {}
        self._asked: set[tuple] = set()
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("All volumes of the series")
        bar.valueChanged.connect(self.update)
        viewing = desk.viewing
        for signal in (viewing.crosshair_moved, viewing.looks_changed, viewing.lead_ready, viewing.arrangement_changed):
            signal.connect(self._anew)
        viewing.place_changed.connect(self.update)

    def _anew(self) -> None:
        self._asked.clear()
        self._suit()
        self.update()

    @property
    def count(self) -> int:
        """Volumes along the first axis."""
        record = self.viewing.record
        return record.axes[0].size if record is not None and record.axes else 0

    @property
    def columns(self) -> int:
        """As few as let all be seen at once, or as many as find room."""
        most = max(1, self.width() // LEAST)
        fits = (n for n in range(1, most) if math.ceil(self.count / n) * self.width() / n <= self.height())
        return next(fits, most)

    @property
    def side(self) -> float:
        return self.width() / self.columns

    def _suit(self) -> None:
        rows = math.ceil(self.count / self.columns)
        self.bar.setRange(0, max(0, math.ceil(rows * self.side - self.height())))
        self.bar.setPageStep(max(1, self.height()))
        self.bar.setSingleStep(max(1, round(self.side)))

    def resizeEvent(self, event) -> None:
        self._anew()

    def place_of(self, n: int) -> tuple[int, ...]:
        return (n, *self.viewing.place[1:])

    def box(self, n: int) -> QRectF:
        """Where the picture of a volume stands."""
        row, column = divmod(n, self.columns)
        return QRectF(column * self.side, row * self.side - self.bar.value(), self.side, self.side)

    def _key(self, n: int) -> tuple | None:
        record, look = self.viewing.record, self.viewing.look
        if record is None or look is None:
            return None
        order, size = self.viewing.arrangement.order, round(self.side * self.devicePixelRatioF())
        plane = next(p for name in order for p in PLANES if p.name == name)
        at = round(float(self.viewing.crosshair[plane.across]), 9)
        return record.id, self.place_of(n), plane.name, at, look, size, self.viewing.left_on_left

    def paintEvent(self, event) -> None:
        wanted = []
        with QPainter(self) as painter:
            painter.fillRect(self.rect(), QColor(Theme.tokens.night))
            for n in range(self.count):
                box = self.box(n)
                if box.bottom() < 0 or box.top() > self.height():
                    continue
                key = self._key(n)
                picture = self._pictures.get(key) if key is not None else None
                inside = box.adjusted(2, 2, -2, -2)
                if picture is not None:
                    painter.drawImage(inside, picture)
                elif key is not None:
                    wanted.append((n, key))
                here = bool(self.viewing.place) and self.viewing.place[0] == n
                painter.setPen(QPen(QColor(Theme.tokens.chip if here else "#2A363C"), 2 if here else 1))
                painter.drawRect(inside)
                painter.setPen(QColor("#E8EDEE"))
                painter.setFont(figures(12))
                painter.drawText(inside.adjusted(5, 3, -5, -3), Qt.AlignmentFlag.AlignLeft, self._words(n))
            if not self.count:
                painter.setPen(QColor("#A9B7BE"))
                painter.setFont(words(14))
                painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "This image has one volume only")
        if wanted:
            self._draw(wanted)

    def _words(self, n: int) -> str:
        record = self.viewing.record
        axis = record.axes[0] if record is not None else None
        if axis is None or axis.labels or not axis.values:
            return str(n + 1) if axis is None or not axis.labels else axis.words(n)
        return f"{n + 1} · {axis.values[n]:.4g} {axis.unit}"

    def _draw(self, wanted: list[tuple[int, tuple]]) -> None:
        series, record, look = self.viewing.series, self.viewing.record, self.viewing.look
        new = [(n, key) for n, key in wanted if key not in self._asked]
        if series is None or record is None or look is None or not new or not self.viewing.ready:
            return
        self._asked.update(key for _, key in new)
        plane = next(p for name in self.viewing.arrangement.order for p in PLANES if p.name == name)
        crosshair, left = self.viewing.crosshair.copy(), self.viewing.left_on_left

        def work(progress):
            made = {}
            for n, key in new:
                if key not in self._asked:  # something else is looked at meanwhile
                    break
                progress.at(0.0)
                frame = for_showing(series.frame(self.place_of(n)), 1 << 28)
                frame.fetch(progress)
                view = fitted(plane, frame.space, key[5], key[5], left or not frame.space.sides_known, 0.02)
                made[key] = draw(through(view, plane, crosshair), [Drawn(frame, look)])
            return made

        def put(made: dict[tuple, np.ndarray]) -> None:
            for key, pixels in made.items():
                side = pixels.shape[0]
                self._pictures[key] = QImage(pixels.data, side, side, 4 * side, QImage.Format.Format_RGB32).copy()
            while len(self._pictures) > KEPT:
                self._pictures.pop(next(iter(self._pictures)))
            self.update()

        self.desk.session.work.start("All volumes", work, put, lane="view", loud=False)

    def wheelEvent(self, event) -> None:
        self.bar.setValue(round(self.bar.value() - event.angleDelta().y() / 120 * self.side))

    def mousePressEvent(self, event) -> None:
        for n in range(self.count):
            if self.box(n).contains(event.position()):
                self.viewing.go_along(0, n)
                return

    def mouseDoubleClickEvent(self, event) -> None:
        self.viewing.arrange(times=False)

    def keyPressEvent(self, event) -> None:
        step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1, Qt.Key.Key_Up: -self.columns, Qt.Key.Key_Down: self.columns}
        if event.key() in step and self.viewing.place:
            self.viewing.go_along(0, self.viewing.place[0] + step[event.key()])
        elif event.key() in (Qt.Key.Key_Escape, Qt.Key.Key_Return):
            self.viewing.arrange(times=False)
        else:
            super().keyPressEvent(event)
