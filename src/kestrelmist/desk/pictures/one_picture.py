"""One picture with its boxes, which are moved, made larger, drawn and taken away by hand."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QPainter
from PySide6.QtWidgets import QWidget

from ...core.geometry.hits import hit
from ...core.geometry.mark import Mark
from ...core.geometry.shape import Plane, shape_named
from ...prepare.sets.box_table import Box, box_in
from ...scene.layer import MarkLook
from ...scene.layer_types.marks import drawn_mark, handles
from ...scene.primitives import paint
from ...scene.view import View
from ..light_table.qt_painter import QtPainter
from ..models.collection import Collection, Entry
from ..theme.theme import Theme, words
from .grid import class_colour
from .reader import PictureReader

LARGE = 1400
NEAREST = 16.0
"""How much nearer than the whole picture one can go."""
SEEN = Plane(np.array((1.0, 0.0, 0.0)), np.array((0.0, 1.0, 0.0)))
"""Boxes are marks in pixels of the picture, x to the right and y down."""
LEAST = 2.0
"""Pixels of the picture below which a box that is drawn is none."""


class OnePicture(QWidget):
    """Drag inside a box to move it, a corner or the middle of a side to change it, elsewhere to draw one; Delete takes
    the chosen one away; Esc gives up a drag. The wheel goes nearer, and a drag with another button moves what is
    seen."""

    box_chosen = Signal()

    def __init__(self, collection: Collection, reader: PictureReader):
        super().__init__()
        self.collection, self.reader = collection, reader
        self.name = ""
        self.chosen: int | None = None
        self.new_class = ""
        self._held: tuple[Mark | None, int | None, np.ndarray] | None = None
        """The box that a drag began on, None for a new one; which handle of it; and where."""
        self._live: Mark | None = None
        self._zoom, self._shift = 1.0, QPointF()
        self._pan: QPointF | None = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setMinimumSize(200, 200)
        self.setAccessibleName("Picture with its boxes")
        collection.changed.connect(self._follow)
        reader.arrived.connect(lambda name: self.update() if name == self.name else None)

    @property
    def entry(self) -> Entry | None:
        return self.collection.entry(self.name)

    def show_picture(self, name: str) -> None:
        self.name, self.chosen, self._held, self._live = name, None, None, None
        self._zoom, self._shift, self._pan = 1.0, QPointF(), None
        entry = self.entry
        if entry is not None and entry.file is not None:
            self.reader.want([(name, entry.file)], LARGE)
        self.box_chosen.emit()
        self.update()

    def _follow(self) -> None:
        entry = self.entry
        if entry is None or (self.chosen is not None and self.chosen >= len(entry.rows)):
            self.chosen = None
        self.box_chosen.emit()
        self.update()

    # where things are

    @property
    def _size(self) -> tuple[int, int] | None:
        small = self.reader.small(self.name, LARGE)
        return None if small is None else (small.columns, small.rows)

    def _frame(self) -> tuple[QRectF, float] | None:
        """Where the picture lies, and pixels of the screen for one of it."""
        size = self._size
        if size is None:
            return None
        scale = self._zoom * min((self.width() - 24) / size[0], (self.height() - 24) / size[1])
        wide, high = size[0] * scale, size[1] * scale
        left, top = (self.width() - wide) / 2 + self._shift.x(), (self.height() - high) / 2 + self._shift.y()
        return QRectF(left, top, wide, high), scale

    def zoom(self, factor: float, about: QPointF) -> None:
        """Go nearer, or further away, and keep what is at a point of the screen there."""
        before = self._frame()
        if before is None or self._held is not None:
            return
        self._zoom = min(max(self._zoom * factor, 1.0), NEAREST)
        after = self._frame()
        assert after is not None
        held = (about - before[0].topLeft()) * (after[1] / before[1])
        self._shift += about - after[0].topLeft() - held
        self._keep_in_sight()

    def _keep_in_sight(self) -> None:
        """The middle of the pane stays on the picture."""
        frame = self._frame()
        if frame is not None:
            x, y = frame[0].width() / 2, frame[0].height() / 2
            near = QPointF(min(max(self._shift.x(), -x), x), min(max(self._shift.y(), -y), y))
            self._shift = near if self._zoom > 1 else QPointF()
        self.update()

    @property
    def view(self) -> View:
        """What of the picture's pixels is seen."""
        at, scale = self._frame() or (QRectF(), 1.0)
        centre = ((self.width() / 2 - at.left()) / scale, (self.height() / 2 - at.top()) / scale, 0.0)
        return View(centre, (1.0, 0.0, 0.0), (0.0, 1.0, 0.0), 1 / scale, self.width(), self.height())

    def _world(self, point: QPointF) -> np.ndarray:
        return self.view.to_world(point.x() - 0.5, point.y() - 0.5)

    def box_mark(self, n: int) -> Mark | None:
        """A box of the table as a mark, numbered from 1; None while its picture is not there, or without a box."""
        entry, size = self.entry, self._size
        box = box_in(entry.rows[n], *size) if entry is not None and size is not None else None
        if entry is None or box is None:
            return None
        right, bottom = box.left + box.width, box.top + box.height
        corners = ((box.left, box.top, 0.0), (right, box.top, 0.0), (right, bottom, 0.0), (box.left, bottom, 0.0))
        return Mark("rectangle", corners, n + 1, name=entry.rows[n].label)

    def _marks(self) -> list[Mark]:
        """All boxes that are seen, the chosen one last."""
        entry = self.entry
        order = sorted(range(len(entry.rows)), key=lambda n: n == self.chosen) if entry is not None else []
        return [mark for mark in map(self.box_mark, order) if mark is not None]

    def rect_of(self, n: int) -> QRectF | None:
        """A box on the screen."""
        mark = self.box_mark(n)
        if mark is None:
            return None
        page = self.view.to_page(mark.array)
        return QRectF(QPointF(*page.min(0)), QPointF(*page.max(0)))

    def _box_of(self, mark: Mark) -> Box:
        corners = mark.array[:, :2].clip(0, self._size)
        (left, top), (wide, high) = corners.min(0).tolist(), np.ptp(corners, 0).tolist()
        return Box(*(round(v, 2) for v in (left, top, wide, high)))

    # hands

    def wheelEvent(self, event) -> None:
        self.zoom(1.25 ** (event.angleDelta().y() / 120), event.position())
        event.accept()

    def mousePressEvent(self, event) -> None:
        if event.button() in (Qt.MouseButton.RightButton, Qt.MouseButton.MiddleButton) and self._held is None:
            self._pan = event.position() - self._shift
            return
        if event.button() != Qt.MouseButton.LeftButton or self._frame() is None:
            return
        found = hit(self._marks(), (event.position().x(), event.position().y()), self.view.to_page)
        self.chosen = None if found is None else found.mark.id - 1
        if found is not None:
            self.new_class = found.mark.name  # the next one is likely another of them
        start = self._world(event.position())
        self._held = (None, None, start) if found is None else (found.mark, found.handle, start)
        self._live = None
        self.box_chosen.emit()
        self.update()

    def mouseMoveEvent(self, event) -> None:
        if self._pan is not None:
            self._shift = event.position() - self._pan
            self._keep_in_sight()
            return
        to = self._world(event.position())
        if self._held is None:
            over = hit(self._marks(), (event.position().x(), event.position().y()), self.view.to_page) is not None
            self.setCursor(Qt.CursorShape.SizeAllCursor if over else Qt.CursorShape.CrossCursor)
            return
        (mark, handle, start), even = self._held, bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        shape = shape_named("rectangle")
        if mark is None:
            drawn = shape.begun(start, to, SEEN, even)
            self._live = Mark("rectangle", tuple(map(tuple, drawn.tolist())), name=self.new_class)
        elif handle is None:
            self._live = mark.shifted(to - start)
        else:
            self._live = mark.with_points(shape.pulled(mark.array, handle, to, SEEN, even))
        self.update()

    def mouseReleaseEvent(self, event) -> None:
        if event.button() != Qt.MouseButton.LeftButton:
            self._pan = None
            return
        held, live, size = self._held, self._live, self._size
        self._held = self._live = None
        entry = self.entry
        if held is None or live is None or size is None or entry is None:
            return
        box = self._box_of(live)
        if box.width < LEAST or box.height < LEAST:
            self.update()
            return
        if held[0] is None:
            if self.collection.correct(self.name, None, box, self.new_class, size):
                self.chosen = len(entry.rows) - 1
        elif self.chosen is not None:
            self.collection.correct(self.name, self.chosen, box, entry.rows[self.chosen].label, size)
        self.box_chosen.emit()
        self.update()

    def keyPressEvent(self, event) -> None:
        if event.key() == Qt.Key.Key_Escape and self._held is not None:
            self._held = self._live = None
            self.update()
        elif event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace) and self.chosen is not None:
            self.take_away()
        else:
            super().keyPressEvent(event)

    def take_away(self) -> None:
        """Take the chosen box away."""
        entry, size = self.entry, self._size
        if entry is not None and self.chosen is not None and size is not None:
            n, self.chosen = self.chosen, None
            self.collection.correct(self.name, n, None, "", size)

    def set_class(self, label: str) -> None:
        """Give the chosen box another class, or say that of the next one that is drawn."""
        self.new_class = label
        entry, size = self.entry, self._size
        if entry is None or self.chosen is None or size is None or entry.rows[self.chosen].label == label:
            return
        box = box_in(entry.rows[self.chosen], *size)
        if box is not None:
            self.collection.correct(self.name, self.chosen, box, label, size)

    # drawing

    def paintEvent(self, event) -> None:
        with QPainter(self) as painter:
            painter.fillRect(self.rect(), QColor(Theme.tokens.night))
            entry, frame = self.entry, self._frame()
            small = self.reader.small(self.name, LARGE)
            if entry is None or frame is None or small is None:
                painter.setPen(QColor("#A9B7BE"))
                painter.setFont(words(14))
                text = (entry.problem if entry is not None else "") or "Reading …"
                painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, text)
                return
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
            painter.drawImage(frame[0], small.image)
            brush, view, live = QtPainter(painter), self.view, self._live
            for mark in [*self._marks(), *([live] if live is not None and not live.id else [])]:
                shown = live if live is not None and live.id == mark.id else mark
                chosen = shown is live or mark.id - 1 == self.chosen
                colour = class_colour(self.collection, shown.name).name()
                paint(brush, drawn_mark(view, shown, colour, MarkLook()) + (handles(view, shown) if chosen else []))
