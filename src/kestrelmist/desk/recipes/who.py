"""On whom a recipe is done: a row each, a column a step, with its state and the time left."""

from __future__ import annotations

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF
from PySide6.QtWidgets import QStyledItemDelegate

from ...core.operation import find_operation
from ...study.recipes import book as states
from ...study.recipes.plan import LACKING, LEFT_OUT, TO_LOOK_AT
from ..models.recipe_model import RecipeModel
from ..theme.theme import Theme

STATE = Qt.ItemDataRole.UserRole
WORDS = ("subject", "run", "comes in", "left")
LEFT = 3
LITTLE = ("the", "a", "an", "to", "of", "out", "by", "one", "two", "along")
SMALL = 8.0
"""Pixels across a mark of a state."""


def short(title: str) -> str:
    """The word of a title that stands over a narrow column."""
    words = [
        w for w in title.split() if w.lower() not in ("the", "a", "an", "to", "of", "out", "by", "one", "two", "along")
    ]
    return (words[-1] if len(words) == 1 or len(words[0]) < 5 else words[0]).lower()[:9]


class WhoModel(QAbstractTableModel):
    """Rows of the plan; of those that are in the run, how far they are."""

    def __init__(self, model: RecipeModel):
        super().__init__()
        self.model = model
        self.rows: list[tuple[str, str, str, str]] = []
        """Key, subject, name, what comes in."""
        self.titles: list[str] = []
        self.plan_states: dict[str, str] = {}
        self._mean: list[float | None] = []
        model.planned.connect(self.fill)
        model.opened.connect(self.fill)
        model.changed.connect(self.fill)
        model.run.moved.connect(self._moved)

    def fill(self) -> None:
        """Everybody, as the plan has them; without one, as the last run had."""
        plan, book = self.model.plan, self.model.run.book
        self.beginResetModel()
        self.titles = [find_operation(s.operation).title for s in self._steps()]
        if plan is not None:
            slots = len(plan.recipe.slots)
            self.rows = [(u.key, u.subject, u.name, f"{len(u.filled)} of {slots}") for u in plan.units]
            self.plan_states = {u.key: plan.state(u) for u in plan.units}
        else:
            self.rows = [(u, s, n, "") for u, s, n in book.order.units] if book is not None else []
            self.plan_states = {}
        self._look()
        self.endResetModel()

    def _steps(self):
        book, plan = self.model.run.book, self.model.plan
        if self.model.run.running and book is not None:
            return book.steps
        if plan is not None:
            return plan.recipe.steps
        return book.steps if book is not None else ()

    def _look(self) -> None:
        """Mean seconds of each step so far."""
        book = self.model.run.book
        self._mean = []
        if book is not None:
            for n in range(len(book.steps)):
                took = [c[n].seconds for c in book.cells.values() if c[n].state == states.DONE and c[n].seconds]
                self._mean.append(sum(took) / len(took) if took else None)

    def _moved(self) -> None:
        book, here = self.model.run.book, {row[0] for row in self.rows}
        others = self.model.run.running and book is not None and not set(book.cells) <= here
        if len(self._steps()) != len(self.titles) or others:
            self.fill()
            return
        self._look()
        if self.rows:
            self.dataChanged.emit(self.index(0, 0), self.index(len(self.rows) - 1, self.columnCount() - 1))

    def rowCount(self, parent: QModelIndex | QPersistentModelIndex = QModelIndex()) -> int:
        return 0 if parent.isValid() else len(self.rows)

    def columnCount(self, parent: QModelIndex | QPersistentModelIndex = QModelIndex()) -> int:
        return 0 if parent.isValid() else len(WORDS) + len(self.titles)

    def headerData(self, section, orientation, role=Qt.ItemDataRole.DisplayRole):
        if orientation != Qt.Orientation.Horizontal:
            return None
        step = section - len(WORDS)
        if role == Qt.ItemDataRole.ToolTipRole and 0 <= step < len(self.titles):
            return f"{step + 1} {self.titles[step]}"
        if role != Qt.ItemDataRole.DisplayRole:
            return None
        return WORDS[section] if step < 0 else short(self.titles[step])

    def key(self, row: int) -> str:
        return self.rows[row][0]

    def cell(self, row: int, step: int) -> tuple[str, str]:
        """State and sentence of a step of somebody."""
        key, book = self.key(row), self._book_of(self.key(row))
        if book is not None and step < len(book.cells[key]):
            cell = book.cells[key][step]
            return cell.state, cell.what
        return ("none", "") if self.plan_states.get(key) in (LACKING, LEFT_OUT) else (states.WAITING, "")

    def _book_of(self, key: str):
        """The run that somebody is in, where it is of the steps that are shown."""
        book = self.model.run.book
        same = book is not None and len(book.steps) == len(self.titles) and key in book.cells
        return book if same else None

    def left(self, row: int) -> tuple[str, str]:
        """What is left for somebody, and in which colour it stands."""
        key, book = self.key(row), self._book_of(self.key(row))
        state = self.plan_states.get(key, "")
        if state == LEFT_OUT:
            return "left out", "soft"
        if book is not None:
            now = book.state(key)
            seconds = sum(c.seconds for c in book.cells[key])
            if now in states.OVER:
                judged = book.verdicts.get(key, {}).get("verdict", "")
                colour = {states.DOUBTFUL: "amber", states.BAD: "red"}.get(judged, "moss")
                return f"{judged or now}{f' · {minutes(seconds)}' if seconds else ''}", colour
            if now in (states.FAILED, states.MISSING):
                return now, "red"
            if now == states.STOPPED:
                return "stopped", "amber"
            rest = [m for m, c in zip(self._mean, book.cells[key]) if c.state not in states.OVER]
            if self.model.run.running and rest and all(m is not None for m in rest):
                return f"{minutes(sum(m for m in rest if m is not None))} left", "ink"
            if self.model.run.running and now == states.RUNNING:
                return "under way", "ink"
        if state == LACKING:
            return "lacks something", "red"
        plan = self.model.plan
        each = None if plan is None or plan.seconds is None or not plan.units else plan.seconds / len(plan.units)
        about = f"about {minutes(each)}" if each is not None else "not known yet"
        looked_at = f"to look at · {about.removeprefix('about ')}"
        return (looked_at, "amber") if state == TO_LOOK_AT else (about, "ink")

    def data(self, index, role=Qt.ItemDataRole.DisplayRole):
        if not index.isValid():
            return None
        row, step = index.row(), index.column() - len(WORDS)
        if index.column() == LEFT:
            return self._left_said(row, role)
        if step < 0:
            return self.rows[row][1 + index.column()] if role == Qt.ItemDataRole.DisplayRole else None
        state, what = self.cell(row, step)
        if role == STATE:
            return state
        if role == Qt.ItemDataRole.ToolTipRole:
            return f"{self.titles[step]}: {state}" + (f". {what}" if what else "")
        return f"{self.titles[step]}: {state}" if role == Qt.ItemDataRole.AccessibleTextRole else None

    def _left_said(self, row: int, role):
        words, colour = self.left(row)
        if role == Qt.ItemDataRole.DisplayRole:
            return words
        if role == Qt.ItemDataRole.ForegroundRole:
            return QColor(getattr(Theme.tokens, colour))
        if role != Qt.ItemDataRole.ToolTipRole:
            return None
        book = self._book_of(self.key(row))
        return "" if book is None else book.said(self.key(row))


def minutes(seconds: float) -> str:
    """A length of time in words."""
    if seconds < 60:
        return f"{seconds:.0f} s"
    whole = round(seconds)
    return (
        f"{whole // 60} min {whole % 60} s"
        if whole < 600
        else f"{whole / 60:.0f} min"
        if whole < 6000
        else f"{whole / 3600:.1f} h"
    )


class StateDelegate(QStyledItemDelegate):
    """Marks of states: a disc for done, a ring for waiting, an arc for under way, a square for failed, a triangle for
    stopped, a dash for nobody. Shape tells what colour tells."""

    def paint(self, painter, option, index) -> None:
        state = index.data(STATE)
        if state is None:
            super().paint(painter, option, index)
            return
        self.initStyleOption(option, index)
        option.text = ""
        option.widget.style().drawControl(
            option.widget.style().ControlElement.CE_ItemViewItem, option, painter, option.widget
        )
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        draw_state(painter, QPointF(QRectF(option.rect).center()), state)
        painter.restore()


def draw_state(painter: QPainter, at: QPointF, state: str) -> None:
    """The mark of a state at a place."""
    tokens, half = Theme.tokens, SMALL / 2
    box = QRectF(at.x() - half, at.y() - half, SMALL, SMALL)
    painter.setPen(Qt.PenStyle.NoPen)
    if state in (states.DONE, states.FOUND):
        painter.setBrush(QColor(tokens.moss))
        painter.drawEllipse(box)
        if state == states.FOUND:
            painter.setBrush(QColor(tokens.field))
            painter.drawEllipse(box.adjusted(2.5, 2.5, -2.5, -2.5))
    elif state == states.FAILED:
        painter.setBrush(QColor(tokens.red))
        painter.drawRect(box)
    elif state == states.STOPPED:
        painter.setBrush(QColor(tokens.amber))
        painter.drawPolygon(QPolygonF([QPointF(at.x(), box.top()), box.bottomRight(), box.bottomLeft()]))
    elif state == states.RUNNING:
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(QColor(tokens.rust), 2.2))
        painter.drawArc(box, 90 * 16, -270 * 16)
    else:
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(QColor(tokens.soft), 1.2))
        if state == states.WAITING:
            painter.drawEllipse(box)
        else:
            painter.drawLine(QPointF(box.left(), at.y()), QPointF(box.right(), at.y()))
