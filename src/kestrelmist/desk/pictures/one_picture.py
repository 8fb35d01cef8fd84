"""One picture with its boxes, which are moved, made larger, drawn and taken away by hand."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QPainter, QPen
from PySide6.QtWidgets import QWidget

from ...prepare.sets.box_table import Box, box_in
from ..models.collection import Collection, Entry
from ..theme.theme import Theme, figures, words
from .grid import class_colour
from .reader import PictureReader

LARGE = 1400
NEAREST = 16.0
"""How much nearer than the whole picture one can go."""
NEAR = 7.0
LEAST = 2.0
"""Pixels of the picture below which a box that is drawn is none."""


class OnePicture(QWidget):
    """Drag inside a box to move it, an edge or a corner to change it, elsewhere to draw one; Delete takes the chosen
    one away; Esc gives up a drag. The wheel goes nearer, and a drag with another button moves what is seen."""

    box_chosen = Signal()

    def __init__(self, collection: Collection, reader: PictureReader):
        super().__init__()
        self.collection, self.reader = collection, reader
        self.name = ""
        self.chosen: int | None = None
        self.new_class = ""
        self._drag: tuple[str, QPointF, QRectF] | None = None
        self._moved: QRectF | None = None
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
        self.name, self.chosen, self._drag, self._moved = name, None, None, None
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
        if before is None or self._drag is not None:
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

    def rect_of(self, n: int) -> QRectF | None:
        """A box on the screen."""
        entry, frame, size = self.entry, self._frame(), self._size
        if entry is None or frame is None or size is None:
            return None
        box = box_in(entry.rows[n], *size)
        if box is None:
            return None
        at, scale = frame
        return QRectF(at.left() + box.left * scale, at.top() + box.top * scale, box.width * scale, box.height * scale)

    def _box_of(self, rect: QRectF) -> Box:
        at, scale = self._frame() or (QRectF(), 1.0)
        rect = rect.normalized().intersected(at)
        numbers = ((rect.left() - at.left()) / scale, (rect.top() - at.top()) / scale)
        return Box(*(round(v, 2) for v in (*numbers, rect.width() / scale, rect.height() / scale)))

    def _part(self, point: QPointF) -> tuple[int | None, str]:
        """The box under the hand and what of it: "move", or the edges that it is near ("l", "rt" …)."""
        entry = self.entry
        order = sorted(range(len(entry.rows)), key=lambda n: n != self.chosen) if entry is not None else []
        for n in order:
            rect = self.rect_of(n)
            if rect is None or not rect.adjusted(-NEAR, -NEAR, NEAR, NEAR).contains(point):
                continue
            edges = (
                "l" if abs(point.x() - rect.left()) <= NEAR else "r" if abs(point.x() - rect.right()) <= NEAR else ""
            )
            edges += (
                "t" if abs(point.y() - rect.top()) <= NEAR else "b" if abs(point.y() - rect.bottom()) <= NEAR else ""
            )
            return n, edges or "move"
        return None, "new"

    # hands

    def wheelEvent(self, event) -> None:
        self.zoom(1.25 ** (event.angleDelta().y() / 120), event.position())
        event.accept()

    def mousePressEvent(self, event) -> None:
        if event.button() in (Qt.MouseButton.RightButton, Qt.MouseButton.MiddleButton) and self._drag is None:
            self._pan = event.position() - self._shift
            return
        if event.button() != Qt.MouseButton.LeftButton or self._frame() is None:
            return
        self.chosen, part = self._part(event.position())
        rect = self.rect_of(self.chosen) if self.chosen is not None else None
        if self.chosen is not None and self.entry is not None:
            self.new_class = self.entry.rows[self.chosen].label  # the next one is likely another of them
        self._drag = part, event.position(), rect or QRectF(event.position(), event.position())
        self._moved = None
        self.box_chosen.emit()
        self.update()

    def mouseMoveEvent(self, event) -> None:
        if self._pan is not None:
            self._shift = event.position() - self._pan
            self._keep_in_sight()
            return
        if self._drag is None:
            _, part = self._part(event.position())
            self.setCursor(Qt.CursorShape.SizeAllCursor if part not in ("new",) else Qt.CursorShape.CrossCursor)
            return
        part, start, rect = self._drag
        moved, made = event.position() - start, QRectF(rect)
        if part == "new":
            made = QRectF(start, event.position()).normalized()
        elif part == "move":
            made.translate(moved)
        else:
            left, top = (moved.x() if "l" in part else 0.0), (moved.y() if "t" in part else 0.0)
            right, bottom = (moved.x() if "r" in part else 0.0), (moved.y() if "b" in part else 0.0)
            made.adjust(left, top, right, bottom)
        self._moved = made.normalized()
        self.update()

    def mouseReleaseEvent(self, event) -> None:
        if event.button() != Qt.MouseButton.LeftButton:
            self._pan = None
            return
        drag, moved, size = self._drag, self._moved, self._size
        self._drag = self._moved = None
        entry = self.entry
        if drag is None or moved is None or size is None or entry is None:
            return
        box = self._box_of(moved)
        if box.width < LEAST or box.height < LEAST:
            self.update()
            return
        if drag[0] == "new":
            if self.collection.correct(self.name, None, box, self.new_class, size):
                self.chosen = len(entry.rows) - 1
        elif self.chosen is not None:
            self.collection.correct(self.name, self.chosen, box, entry.rows[self.chosen].label, size)
        self.box_chosen.emit()
        self.update()

    def keyPressEvent(self, event) -> None:
        if event.key() == Qt.Key.Key_Escape and self._drag is not None:
            self._drag = self._moved = None
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
            painter.setFont(figures(12))
            for n, row in enumerate(entry.rows):
                rect = self._moved if n == self.chosen and self._moved is not None else self.rect_of(n)
                if rect is not None:
                    self._paint_box(painter, rect, row.label, n == self.chosen)
            if self._moved is not None and self.chosen is None:
                self._paint_box(painter, self._moved, self.new_class, True)

    def _paint_box(self, painter: QPainter, rect: QRectF, label: str, chosen: bool) -> None:
        colour = class_colour(self.collection, label)
        for pen in (QPen(QColor(0, 0, 0, 150), 4 if chosen else 3), QPen(colour, 2.2 if chosen else 1.5)):
            painter.setPen(pen)
            painter.drawRect(rect)
        if label:
            painter.drawText(rect.topLeft() + QPointF(2, -5), label)
        if chosen:
            painter.setBrush(colour)
            for point in (rect.topLeft(), rect.topRight(), rect.bottomLeft(), rect.bottomRight()):
                painter.drawRect(QRectF(point - QPointF(3, 3), point + QPointF(3, 3)))
            painter.setBrush(Qt.BrushStyle.NoBrush)
