"""The grid: small pictures with their boxes, painted as they come in."""

from __future__ import annotations

from PySide6.QtCore import QAbstractListModel, QModelIndex, QRect, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QPainter, QPen
from PySide6.QtWidgets import QAbstractItemView, QListView, QStyle, QStyledItemDelegate

from ...core.curve import COLOURS
from ...prepare.sets.box_table import box_in
from ..models.collection import Collection, Entry
from ..theme.theme import Theme, figures, words
from ..widgets.plain_text import plain_tip
from .reader import SIDE, PictureReader

CELL = QSize(SIDE + 14, SIDE + 40)
ENTRY = Qt.ItemDataRole.UserRole


def class_colour(collection: Collection, label: str) -> QColor:
    """Each class has a colour, by its place among all; boxes without a class have none."""
    n = collection.place_of(label)
    return QColor(UNNAMED if n is None else BRIGHT[n % len(BRIGHT)])


BRIGHT = ("#F0B263", "#6CC4D8", "#B8CC6A", "#C79BE0", "#F08A78", "#9DB4F0", "#E6E08A", "#8FD6A8")
"""Colours that are seen on a radiograph."""
UNNAMED = "#D8DEE2"
assert len(BRIGHT) == len(COLOURS)


class GridModel(QAbstractListModel):
    """The pictures of the present page."""

    def __init__(self, collection: Collection):
        super().__init__()
        self.collection, self.entries = collection, collection.shown
        collection.changed.connect(self.show_page)

    def show_page(self) -> None:
        now = self.collection.shown
        if [e.name for e in now] != [e.name for e in self.entries] or len(now) != len(self.entries):
            self.beginResetModel()
            self.entries = now
            self.endResetModel()
        else:
            self.entries = now
            if now:
                self.dataChanged.emit(self.index(0), self.index(len(now) - 1))

    def rowCount(self, parent=QModelIndex()) -> int:
        return len(self.entries)

    def data(self, index, role=Qt.ItemDataRole.DisplayRole):
        entry = self.entries[index.row()]
        if role == ENTRY:
            return entry
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.AccessibleTextRole):
            return entry.name
        if role == Qt.ItemDataRole.ToolTipRole:
            told = ", ".join(sorted(entry.classes)) or "no box"
            return plain_tip("\n".join(filter(None, (entry.name, told, entry.problem))))
        return None

    def tell(self, name: str) -> None:
        """A picture has come in."""
        for n, entry in enumerate(self.entries):
            if entry.name == name:
                self.dataChanged.emit(self.index(n), self.index(n))


class CellDelegate(QStyledItemDelegate):
    """Paints a cell: the picture, its boxes, its name, and what is wrong with it."""

    def __init__(self, collection: Collection, reader: PictureReader, parent=None):
        super().__init__(parent)
        self.collection, self.reader = collection, reader

    def sizeHint(self, option, index) -> QSize:
        return CELL

    def paint(self, painter: QPainter, option, index) -> None:
        entry: Entry = index.data(ENTRY)
        tokens, cell = Theme.tokens, option.rect.adjusted(4, 4, -4, -4)
        painter.save()
        if option.state & QStyle.StateFlag.State_Selected:
            painter.fillRect(option.rect.adjusted(1, 1, -1, -1), QColor(tokens.rust_tint))
        room = QRect(cell.left() + 3, cell.top(), SIDE, SIDE)
        painter.fillRect(room, QColor(tokens.night))
        small = self.reader.small(entry.name)
        if small is not None:
            at = QRect(0, 0, small.image.width(), small.image.height())
            at.moveCenter(room.center())
            painter.drawImage(at, small.image)
            painter.setClipRect(room)
            for row in entry.rows:
                box = box_in(row, small.columns, small.rows)
                if box is not None:
                    x, y = at.width() / small.columns, at.height() / small.rows
                    painter.setPen(QPen(class_colour(self.collection, row.label), 1.4))
                    painter.drawRect(
                        QRectF(at.left() + box.left * x, at.top() + box.top * y, box.width * x, box.height * y)
                    )
            painter.setClipping(False)
        elif entry.problem or entry.file is None:
            painter.setPen(QColor("#A9B7BE"))
            painter.setFont(words(12))
            painter.drawText(
                room.adjusted(8, 8, -8, -8), Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, entry.problem[:90]
            )
        painter.setFont(figures(11))
        painter.setPen(QColor(tokens.red if entry.problem or entry.outside else tokens.ink))
        line = QRect(room.left(), room.bottom() + 3, room.width(), 16)
        mark = " ·" if entry.corrected else ""
        name = painter.fontMetrics().elidedText(f"{entry.name}{mark}", Qt.TextElideMode.ElideMiddle, room.width())
        painter.drawText(line, Qt.AlignmentFlag.AlignLeft, name)
        painter.restore()


class Grid(QListView):
    """Scrolls through a page; what is in view is read first."""

    chosen = Signal(str)

    def __init__(self, collection: Collection, reader: PictureReader):
        super().__init__()
        self.collection, self.reader = collection, reader
        self.cells = GridModel(collection)
        self.setModel(self.cells)
        self.setItemDelegate(CellDelegate(collection, reader, self))
        self.setViewMode(QListView.ViewMode.IconMode)
        self.setResizeMode(QListView.ResizeMode.Adjust)
        self.setMovement(QListView.Movement.Static)
        self.setUniformItemSizes(True)
        self.setGridSize(CELL)
        self.setVerticalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        self.setAccessibleName("Pictures")
        self.verticalScrollBar().valueChanged.connect(self.want)
        self.cells.modelReset.connect(self._anew)
        reader.arrived.connect(self.cells.tell)
        self.clicked.connect(lambda index: self.chosen.emit(index.data(ENTRY).name))
        self.activated.connect(lambda index: self.chosen.emit(index.data(ENTRY).name))

    def _anew(self) -> None:
        self.scrollToTop()
        self.want()

    def want(self) -> None:
        """Ask for what is in view, then for what comes after it."""
        first = max(self.indexAt(self.viewport().rect().topLeft() + CELL_MIDDLE).row(), 0)
        across = max(1, self.viewport().width() // CELL.width())
        down = self.viewport().height() // CELL.height() + 2
        order = self.cells.entries[first : first + across * (down + 3)]
        self.reader.want([(entry.name, entry.file) for entry in order if entry.file is not None])

    def resizeEvent(self, event) -> None:
        super().resizeEvent(event)
        self.want()

    def showEvent(self, event) -> None:
        super().showEvent(event)
        self.want()


CELL_MIDDLE = QRect(0, 0, CELL.width(), CELL.height()).center()
