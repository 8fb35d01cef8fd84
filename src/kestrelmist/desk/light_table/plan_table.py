"""The plan of a folder over the Light table: what it holds, what is wrong, and what is to become of it, changed in
place."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QAbstractTableModel, QEvent, QModelIndex, QSize, Qt, QTimer, Signal
from PySide6.QtGui import QColor, QIcon, QImage, QPainter, QPixmap
from PySide6.QtWidgets import QApplication, QHBoxLayout, QHeaderView, QTableView, QToolButton, QVBoxLayout, QWidget

from ...formats.sequence import natural
from ...gather.plan import PlanLine
from ..drawer.table_view import plain_view
from ..theme.theme import Theme, figures, icon, words
from ..widgets.plain_text import Words, plain_tip

PICTURE = 40
SOON = 60
"""Milliseconds in which the lines that move are gathered before the view hears of them."""
HEADS = ("", "Image", "Seems to be", "Subject", "Matrix and voxel", "Copy", "State")
TAKE, IMAGE, SEEMS, SUBJECT, SIZE, COPY, STATE = range(len(HEADS))
WIDTHS = (30, 164, 156, 76, 186, 44, 94)
HINTS = (
    "Take it in",
    "Its name in the study",
    "",
    "Whose it is",
    "Columns × rows × slices, volumes, and the size of a voxel",
    "Copy the files into the study; otherwise they stay where they are, and must stay there",
    "",
)


class PlanModel(QAbstractTableModel):
    """The lines of a plan. Editing changes the lines themselves."""

    changed = Signal()

    def __init__(self):
        super().__init__()
        self.lines: list[PlanLine] = []
        self._given: list[PlanLine] = []
        """The lines in the order of the plan."""
        self.states: dict[int, str] = {}
        """How far lines are, by the ids of their objects."""
        self._places: dict[int, int] = {}
        self._pictures: dict[int, QIcon] = {}
        """Of the lines that were looked at, by the ids of their objects: there may be thousands."""
        self._moved: set[int] = set()
        self._soon = QTimer(self, singleShot=True, interval=SOON)
        self._soon.timeout.connect(self._tell_moved)
        blank = QPixmap(2 * PICTURE, 2 * PICTURE)
        blank.fill(QColor(Theme.tokens.night))
        self._blank = _same_when_chosen(blank)

    def show(self, lines: list[PlanLine]) -> None:
        self.beginResetModel()
        self.lines, self.states, self._given = lines, {}, lines
        self._places = {id(line): n for n, line in enumerate(lines)}
        self._pictures, self._moved = {}, set()
        self.endResetModel()
        self.changed.emit()

    def tell(self, line: PlanLine, words: str) -> None:
        """Show how far a line is."""
        n = self._places.get(id(line))
        if n is not None:
            self.states[id(line)] = words
            self._moved.add(n)
            if not self._soon.isActive():
                self._soon.start()

    def _tell_moved(self) -> None:
        moved, self._moved = self._moved, set()
        if moved:
            self.dataChanged.emit(self.index(min(moved), 0), self.index(max(moved), STATE))

    def _picture(self, n: int) -> QIcon:
        key = id(self.lines[n])
        if key not in self._pictures:
            values = self.lines[n].picture
            made = self._blank if values is None else _same_when_chosen(picture_of_values(values, PICTURE))
            self._pictures[key] = made
        return self._pictures[key]

    def state(self, n: int) -> str:
        line = self.lines[n]
        if id(line) in self.states:
            return self.states[id(line)]
        if line.refused:
            return "no image" if line.kind == "other" else "cannot be read"
        if line.mendable:
            return "will be mended" if line.mend else "not whole"
        return "look" if line.problems else "ready" if line.take else "left out"

    def rowCount(self, parent=QModelIndex()) -> int:
        return len(self.lines)

    def columnCount(self, parent=QModelIndex()) -> int:
        return len(HEADS)

    def headerData(self, section, orientation, role=Qt.ItemDataRole.DisplayRole):
        if orientation == Qt.Orientation.Horizontal:
            if role == Qt.ItemDataRole.DisplayRole:
                return HEADS[section]
            if role == Qt.ItemDataRole.ToolTipRole:
                return HINTS[section]
        return None

    def data(self, index, role=Qt.ItemDataRole.DisplayRole):
        n, column = index.row(), index.column()
        line = self.lines[n]
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.EditRole):
            return (
                "",
                line.name,
                f"{line.seems}\n{line.date}".strip(),
                line.subject,
                f"{line.size}\n{line.spacing}".strip(),
                "",
                self.state(n),
            )[column]
        if role == Qt.ItemDataRole.FontRole:
            return figures(12) if column == SIZE else words(13)
        if role == Qt.ItemDataRole.CheckStateRole and column in (TAKE, COPY):
            return Qt.CheckState.Checked if (line.take if column == TAKE else line.copy) else Qt.CheckState.Unchecked
        if role == Qt.ItemDataRole.DecorationRole and column == IMAGE:
            return self._picture(n)
        if role == Qt.ItemDataRole.ToolTipRole:
            return plain_tip("\n".join([*(f"{p}." for p in line.problems), *([line.refused] if line.refused else [])]))
        if role == Qt.ItemDataRole.ForegroundRole:
            state = self.state(n)
            colour = {
                "look": "amber",
                "not whole": "amber",
                "taken in": "moss",
                "cannot be read": "red",
                "refused": "red",
            }.get(state)
            if column == STATE and colour:
                return QColor(getattr(Theme.tokens, colour))
            if not line.take and column != STATE:
                return QColor(Theme.tokens.soft)
        return None

    def flags(self, index):
        flags, line = super().flags(index), self.lines[index.row()]
        if index.column() in (TAKE, COPY) and not line.refused:
            flags |= Qt.ItemFlag.ItemIsUserCheckable
        if index.column() in (IMAGE, SUBJECT) and line.is_image:
            flags |= Qt.ItemFlag.ItemIsEditable
        return flags

    def setData(self, index, value, role=Qt.ItemDataRole.EditRole) -> bool:
        line, column = self.lines[index.row()], index.column()
        if role == Qt.ItemDataRole.CheckStateRole:
            on = Qt.CheckState(value) == Qt.CheckState.Checked
            if column == TAKE:
                line.take, line.mend = on, on and line.mendable
            else:
                line.copy = on
        elif role == Qt.ItemDataRole.EditRole and str(value).strip():
            if column == IMAGE:
                line.name = str(value).strip()
            else:
                line.subject = str(value).strip()
        else:
            return False
        self.dataChanged.emit(self.index(index.row(), 0), self.index(index.row(), STATE))
        self.changed.emit()
        return True

    def tick(self, rows: list[int], on: bool, column: int = TAKE) -> None:
        """Tick many lines, or none of them; what cannot be taken in stays out."""
        some = [n for n in rows if not self.lines[n].refused]
        for n in some:
            line = self.lines[n]
            if column == TAKE:
                line.take, line.mend = on, on and line.mendable
            else:
                line.copy = on
        if some:
            self.dataChanged.emit(self.index(min(some), 0), self.index(max(some), STATE))
            self.changed.emit()

    def sort(self, column: int, order: Qt.SortOrder = Qt.SortOrder.AscendingOrder) -> None:
        """Lines in the order of a column; of no column, as the plan has them."""
        self.layoutAboutToBeChanged.emit()
        keys = {
            TAKE: lambda line: not line.take,
            IMAGE: lambda line: natural(line.name.casefold()),
            SEEMS: lambda line: (line.seems, line.date),
            SUBJECT: lambda line: natural(line.subject.casefold()),
            SIZE: lambda line: natural(line.size),
            COPY: lambda line: not line.copy,
            STATE: lambda line: self.state(self._places[id(line)]),
        }
        key, back = keys.get(column), order == Qt.SortOrder.DescendingOrder
        self.lines = self._given if key is None else sorted(self._given, key=key, reverse=back)
        self._places = {id(line): n for n, line in enumerate(self.lines)}
        self.layoutChanged.emit()


class PlanPage(QWidget):
    """The plan table, and below it all that is wrong with the line under the hand."""

    put_away = Signal()

    def __init__(self, parent=None):
        super().__init__(parent)
        self.setObjectName("panel")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.model = PlanModel()
        self.heading, self.words = Words(), Words()
        self.heading.setProperty("kind", "title")
        self.words.setWordWrap(True)
        self.words.setMinimumHeight(64)
        self.words.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.words.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.close_button = QToolButton()
        self.close_button.setToolTip("Put the plan away and show the images")
        self.close_button.setAccessibleName("Put the plan away")
        self.close_button.clicked.connect(self.put_away)
        self.view = plain_view(PICTURE + 10)
        self.view.setModel(self.model)
        self.view.setAccessibleName("Plan: what the folder holds")
        self.view.setIconSize(QSize(PICTURE, PICTURE))
        self.view.setWordWrap(True)
        self.view.setEditTriggers(
            QTableView.EditTrigger.DoubleClicked
            | QTableView.EditTrigger.EditKeyPressed
            | QTableView.EditTrigger.SelectedClicked
        )
        head = self.view.horizontalHeader()
        head.setMinimumSectionSize(28)
        for column, width in enumerate(WIDTHS):
            self.view.setColumnWidth(column, width)
        head.setSectionResizeMode(IMAGE, QHeaderView.ResizeMode.Stretch)
        head.setSectionsClickable(True)
        head.setSortIndicatorClearable(True)
        head.setSortIndicator(-1, Qt.SortOrder.AscendingOrder)
        self.view.setSortingEnabled(True)
        self.view.installEventFilter(self)
        self.view.clicked.connect(self._clicked)
        self.view.setToolTip(plain_tip("Space ticks all chosen rows, or none; a click with Shift ticks up to there"))
        self.view.selectionModel().currentRowChanged.connect(lambda now, before: self._tell(now.row()))
        self.model.dataChanged.connect(self._tell_again)
        top = QHBoxLayout()
        top.addWidget(self.heading, 1)
        top.addWidget(self.close_button)
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 8, 12, 8)
        column.setSpacing(8)
        column.addLayout(top)
        column.addWidget(self.view, 1)
        column.addWidget(self.words)
        self.dress()

    def dress(self) -> None:
        self.close_button.setIcon(icon("x", 16))

    def show_plan(self, title: str, lines: list[PlanLine]) -> None:
        self.heading.setText(title)
        self.model.show(lines)
        first = next((n for n, line in enumerate(lines) if line.problems), 0)
        if lines:
            self.view.selectRow(first)
        self._tell(first)

    @property
    def chosen(self) -> list[int]:
        """Rows that are chosen."""
        return sorted({index.row() for index in self.view.selectionModel().selectedRows()})

    def eventFilter(self, watched, event) -> bool:
        """Space ticks what is chosen, as the first of it is not yet."""
        if event.type() == QEvent.Type.KeyPress and event.key() == Qt.Key.Key_Space and self.chosen:
            rows = self.chosen
            self.model.tick(rows, not self.model.lines[rows[0]].take)
            return True
        return super().eventFilter(watched, event)

    def _clicked(self, index: QModelIndex) -> None:
        """A tick with Shift or Ctrl held goes for all chosen rows."""
        several = Qt.KeyboardModifier.ShiftModifier | Qt.KeyboardModifier.ControlModifier
        if index.column() in (TAKE, COPY) and QApplication.keyboardModifiers() & several:
            line = self.model.lines[index.row()]
            self.model.tick(self.chosen, line.take if index.column() == TAKE else line.copy, index.column())

    def _tell_again(self) -> None:
        self._tell(self.view.currentIndex().row())

    def _tell(self, row: int) -> None:
        if not 0 <= row < len(self.model.lines):
            self.words.setText("")
            return
        line = self.model.lines[row]
        said = [f"▲ {p}." for p in line.problems]
        if line.mendable:
            said.append(
                "Tick it to take it in mended: missing slices are left blank, the first of doubled ones is taken,"
                " and slices that lie sideways are resampled into place; all is noted."
            )
        elif line.refused:
            said = [f"■ {line.refused}"]
        where = f"{len(line.files)} file{'s' if len(line.files) != 1 else ''}, the first is {line.files[0].name}"
        self.words.setText("\n".join([f"{line.name} · {where}", *(said or ["Nothing is wrong with it."])]))


def _same_when_chosen(pixmap: QPixmap) -> QIcon:
    """An icon that is not tinted in a chosen row."""
    made = QIcon(pixmap)
    made.addPixmap(pixmap, QIcon.Mode.Selected)
    return made


def picture_of_values(values: np.ndarray, size: int) -> QPixmap:
    """A small picture of grey values [row, column], or of colours [row, column, 3]."""
    if values.ndim == 3:
        pixels = np.ascontiguousarray(values[..., :3].astype(np.uint8))
        image = QImage(pixels.data, pixels.shape[1], pixels.shape[0], 3 * pixels.shape[1], QImage.Format.Format_RGB888)
    else:
        values = np.nan_to_num(np.asarray(values, np.float32))
        low, high = np.percentile(values, (2, 99.5))
        pixels = np.ascontiguousarray(np.clip((values - low) / max(high - low, 1e-9) * 255, 0, 255).astype(np.uint8))
        image = QImage(pixels.data, pixels.shape[1], pixels.shape[0], pixels.shape[1], QImage.Format.Format_Grayscale8)
    scaled = image.scaled(
        size * 2, size * 2, Qt.AspectRatioMode.KeepAspectRatio, Qt.TransformationMode.SmoothTransformation
    )
    pixmap = QPixmap(size * 2, size * 2)
    pixmap.fill(QColor(Theme.tokens.night))
    with QPainter(pixmap) as painter:
        painter.drawImage((2 * size - scaled.width()) // 2, (2 * size - scaled.height()) // 2, scaled)
    pixmap.setDevicePixelRatio(2)
    return pixmap
