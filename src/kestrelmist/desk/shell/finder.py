"""The Finder: type a few words, get any tool, image or setting."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QEvent, QPoint, QRect, QStringListModel, Qt
from PySide6.QtGui import QColor, QFont
from PySide6.QtWidgets import QFrame, QGraphicsDropShadowEffect, QLineEdit, QListView, QStyle, QStyledItemDelegate

from PySide6.QtWidgets import QVBoxLayout  # isort: skip

from ...core.errors import Trouble
from ...core.finding import Finding, Line
from ...study.study import Study
from ..theme.theme import Theme

MOST = 500
"""Lines that are listed; whoever looks for others types more letters."""
KEPT = 20
"""Names of what was used lately that are kept."""
LATELY = "found lately"
ROW = 29
Found = tuple[Line, Callable[[], object]]


class LineDelegate(QStyledItemDelegate):
    """A line as its name, what it does in soft ink, and its kind at the end."""

    def __init__(self, finder: Finder):
        super().__init__(finder)
        self.finder = finder

    def paint(self, painter, option, index) -> None:
        line = self.finder.shown[index.row()][0]
        style = option.widget.style()
        style.drawPrimitive(QStyle.PrimitiveElement.PE_PanelItemViewItem, option, painter, option.widget)
        inside = option.rect.adjusted(8, 0, -8, 0)
        painter.save()
        middle = Qt.AlignmentFlag.AlignVCenter
        small = QFont(option.font)
        small.setPixelSize(12)
        painter.setFont(small)
        painter.setPen(QColor(Theme.tokens.soft))
        painter.drawText(inside, middle | Qt.AlignmentFlag.AlignRight, line.kind)
        inside.setRight(inside.right() - painter.fontMetrics().horizontalAdvance(line.kind) - 12)
        painter.setFont(option.font)
        painter.setPen(QColor(Theme.tokens.ink))
        metrics = painter.fontMetrics()
        most = max(inside.width() // 2, inside.width() - 130) if line.says else inside.width()
        name = metrics.elidedText(line.name, Qt.TextElideMode.ElideMiddle, most)
        painter.drawText(inside, middle | Qt.AlignmentFlag.AlignLeft, name)
        taken = metrics.horizontalAdvance(name) + 12
        painter.setFont(small)
        painter.setPen(QColor(Theme.tokens.soft))
        room = QRect(inside.left() + taken, inside.top(), max(0, inside.width() - taken), inside.height())
        says = painter.fontMetrics().elidedText(line.says, Qt.TextElideMode.ElideRight, room.width())
        painter.drawText(room, middle | Qt.AlignmentFlag.AlignLeft, says)
        painter.restore()


class Finder(QFrame):
    """A box over the Light table; Enter does the first line, Esc closes it."""

    def __init__(self, parent, study: Study, lines: Callable[[], list[Found]], images: Callable[[str], list[Found]]):
        super().__init__(parent)
        self.setObjectName("finder")
        self.study = study
        self._lines, self._images = lines, images
        self.shown: list[Found] = []
        self._finding: Finding[Found] = Finding([])
        self.field, self.list = QLineEdit(), QListView()
        self.field.setPlaceholderText("Type a few words for a tool, an image or a setting")
        self.field.setAccessibleName("Finder")
        self.model = QStringListModel(self)
        self.list.setModel(self.model)
        self.list.setItemDelegate(LineDelegate(self))
        self.list.setEditTriggers(QListView.EditTrigger.NoEditTriggers)
        self.list.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.list.setFocusProxy(self.field)  # arrows in the line go through it
        self.list.setAccessibleName("What was found")
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 12, 12, 8)
        column.addWidget(self.field)
        column.addWidget(self.list)
        self.field.textChanged.connect(self._search)
        self.field.installEventFilter(self)
        self.list.clicked.connect(lambda index: self._do(index.row()))
        self.setGraphicsEffect(QGraphicsDropShadowEffect(blurRadius=30, offset=QPoint(0, 6)))
        self.hide()

    def open(self, typed: str = "") -> None:
        """Show it, with some letters typed, or empty, with everything listed."""
        self._finding = Finding([(found[0], found) for found in self._lines()])
        width = min(680, self.parent().width() - 40)
        self.setGeometry((self.parent().width() - width) // 2, 60, width, 380)
        self.field.setText(typed)
        self._search(typed)
        self.show()
        self.raise_()
        self.field.setFocus()

    def found(self, typed: str) -> list[Found]:
        """What is meant by some words, the likeliest first: images after what else is found as surely."""
        images = Finding([(found[0], found) for found in self._images(typed)])
        return _merged(self._finding.scored(typed, self.lately()), images.scored(typed))

    def lately(self) -> list[str]:
        """Names of what was used lately, the last one first."""
        kept = self.study.catalogue.recall(LATELY, [])
        return [name for name in kept if isinstance(name, str)] if isinstance(kept, list) else []

    def _search(self, typed: str) -> None:
        self.shown = self.found(typed)[:MOST]
        self.model.setStringList([f"{line.name}   ·   {line.kind}" for line, _ in self.shown])
        self.list.setCurrentIndex(self.model.index(0))
        self.setFixedHeight(66 + ROW * max(1, min(len(self.shown), 11)))

    def _do(self, row: int) -> None:
        if 0 <= row < len(self.shown):
            line, do = self.shown[row]
            self.hide()
            self._keep(line)
            do()

    def _keep(self, line: Line) -> None:
        if self.study.read_only or line.kind not in ("tool", "setting"):
            return
        try:
            self.study.catalogue.remember(LATELY, [line.name, *(n for n in self.lately() if n != line.name)][:KEPT])
        except Trouble:
            pass  # what cannot be remembered is no reason to stop anyone

    def eventFilter(self, watched, event) -> bool:
        if event.type() == QEvent.Type.KeyPress:
            row = self.list.currentIndex().row()
            if event.key() in (Qt.Key.Key_Down, Qt.Key.Key_Up):
                row += 1 if event.key() == Qt.Key.Key_Down else -1
                self.list.setCurrentIndex(self.model.index(max(0, min(len(self.shown) - 1, row))))
                return True
            if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
                self._do(row)
                return True
            if event.key() == Qt.Key.Key_Escape:
                self.hide()
                return True
        elif event.type() == QEvent.Type.FocusOut:
            self.hide()
        return super().eventFilter(watched, event)


def _merged(first: list[tuple[float, Found]], second: list[tuple[float, Found]]) -> list[Found]:
    """Two lists with scores as one, the likeliest first; what stands in the first goes before what is as likely."""
    both = sorted([*first, *second], key=lambda pair: -pair[0])
    return [found for _, found in both]
