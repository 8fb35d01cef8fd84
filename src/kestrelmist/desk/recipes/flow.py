"""Slots and steps as cards in rows, with lines for what flows between them."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRect, QSize, Qt, Signal
from PySide6.QtGui import QColor, QPainter, QPen
from PySide6.QtWidgets import QPushButton, QWidget

from ...core.errors import Trouble
from ...core.operation import find_operation
from ...study.recipes.recipe import MADE, RecipeStep
from ...study.recipes.slot_pattern import shown
from ...study.used import shown as shown_setting
from ..models.recipe_model import RecipeModel
from ..theme.theme import Theme
from ..widgets.plain_text import Elided, plain_tip

WIDE, TALL, GAP, DOWN = 145, 50, 12, 16
"""Pixels of a card and between cards."""


class Card(QPushButton):
    """A slot or a step: two lines, pressed when it is looked at."""

    moved = Signal(int)
    """It is to go one place back or on."""
    taken = Signal()
    """It is to be taken out."""

    def __init__(self, head: str, foot: str, name: str):
        super().__init__()
        self.setCheckable(True)
        self.setProperty("kind", "card")
        self.setAccessibleName(f"{name}: {head}, {foot}")
        self.setToolTip(plain_tip(f"{head}\n{foot}"))
        self.head, self.foot = Elided(head), Elided(foot)
        self.foot.setProperty("kind", "soft")
        for n, line in enumerate((self.head, self.foot)):
            line.setParent(self)
            line.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
            line.setGeometry(9, 5 + 20 * n, WIDE - 18, 20)

    def keyPressEvent(self, event) -> None:
        by = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key()))
        if by is not None and event.modifiers() & Qt.KeyboardModifier.AltModifier:
            self.moved.emit(by)
        elif event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            self.taken.emit()
        else:
            super().keyPressEvent(event)


class Flow(QWidget):
    """Cards of one kind in rows; the last is the one that adds."""

    add = Signal()

    def __init__(self, model: RecipeModel, steps: bool):
        super().__init__()
        self.model, self.steps = model, steps
        self.cards: list[Card] = []
        self.more = QPushButton("+ a step" if steps else "+ a slot", self)
        self.more.setProperty("kind", "link")
        self.more.clicked.connect(self.add)
        model.changed.connect(self.fill)
        self._told: object = None
        self.fill()

    def fill(self) -> None:
        """Cards of what there is now."""
        recipe = self.model.recipe
        told = recipe.steps if self.steps else recipe
        if told != self._told:
            self._told = told
            had_focus = any(card.hasFocus() for card in self.cards)
            for card in self.cards:
                card.hide()
                card.deleteLater()
            self.cards = [self._step(n, s) for n, s in enumerate(recipe.steps, 1)] if self.steps else [
                self._slot(n) for n in range(len(recipe.slots))
            ]  # fmt: skip
            for card in self.cards:
                card.setParent(self)
                card.show()
            self._lay()
            if had_focus and isinstance(self.model.chosen, int) and self.model.chosen <= len(self.cards):
                self.cards[self.model.chosen - 1].setFocus()
        for n, card in enumerate(self.cards, 1):
            card.setChecked(self.model.chosen == (n if self.steps else recipe.slots[n - 1].name))
        self.update()

    def _slot(self, n: int) -> Card:
        slot = self.model.recipe.slots[n]
        words = f"“{shown(slot.pattern)}”" + (", each" if slot.each else f" of {slot.subject}" if slot.always else "")
        card = Card(slot.name, words, "Slot")
        card.setProperty("off", not self._needed(slot.name))
        card.clicked.connect(lambda: self.model.choose(slot.name))
        card.taken.connect(lambda: self.model.edit("drop-slot", slot=slot.name))
        return card

    def _needed(self, slot: str) -> bool:
        """Whether a step that is switched on needs a slot."""
        try:
            return any(s.name == slot for s in self.model.recipe.running().slots)
        except Trouble:
            return True

    def _step(self, n: int, step: RecipeStep) -> Card:
        title = find_operation(step.operation).title
        card = Card(title, told_short(step), f"Step {n}")
        card.setProperty("off", step.off)
        card.clicked.connect(lambda: self.model.choose(n))
        card.moved.connect(lambda by: self._move(n, n + by))
        card.taken.connect(lambda: self.model.edit("drop-step", number=n))
        return card

    def _move(self, number: int, to: int) -> None:
        if 1 <= to <= len(self.cards):
            before = self.model.recipe
            self.model.edit("move-step", number=number, to=to)
            if self.model.recipe != before:
                self.model.choose(to)

    # where they stand

    @property
    def columns(self) -> int:
        return max(1, (self.width() + GAP) // (WIDE + GAP))

    def place(self, n: int) -> QRect:
        """Where the n-th card stands, from 0."""
        row, column = divmod(n, self.columns)
        return QRect(column * (WIDE + GAP), row * (TALL + DOWN), WIDE, TALL)

    def _lay(self) -> None:
        for n, card in enumerate(self.cards):
            card.setGeometry(self.place(n))
        self.more.setGeometry(self.place(len(self.cards)))
        rows = len(self.cards) // self.columns + 1
        self.setFixedHeight(rows * (TALL + DOWN) - DOWN + 4)

    def resizeEvent(self, event) -> None:
        super().resizeEvent(event)
        self._lay()

    def sizeHint(self) -> QSize:
        return QSize(4 * (WIDE + GAP), self.height())

    def paintEvent(self, event) -> None:
        """Lines from each step to those that its results go to; a switched-off one is crossed by a dashed line."""
        if not self.steps:
            return
        recipe, tokens = self.model.recipe, Theme.tokens
        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            for n, step in enumerate(recipe.steps):
                for m in sorted({int(f[1]) - 1 for f in map(MADE.match, step.pointers) if f is not None}):
                    lit = self.model.chosen in (n + 1, m + 1)
                    pen = QPen(QColor(tokens.rust if lit else tokens.soft), 1.6 if lit else 1.2)
                    if step.off or recipe.steps[m].off:
                        pen.setStyle(Qt.PenStyle.DashLine)
                    if lit or m == n - 1:
                        painter.setPen(pen)
                        painter.drawPolyline(self._line(m, n))

    def _line(self, m: int, n: int) -> list[QPointF]:
        a, b = self.place(m), self.place(n)
        if a.top() == b.top() and n == m + 1:
            return [QPointF(a.right(), a.center().y()), QPointF(b.left(), b.center().y())]
        low, down = a.bottom() + DOWN / 2, b.top() > a.top()
        start, end = QPointF(a.center().x(), a.bottom()), QPointF(b.center().x(), b.top() if down else b.bottom())
        if not down or b.top() - a.bottom() <= DOWN + 2:  # the same row, or the next
            return [start, QPointF(start.x(), low), QPointF(end.x(), low), end]
        side, high = max(1.0, b.left() - GAP / 2), b.top() - DOWN / 2
        turns = (QPointF(start.x(), low), QPointF(side, low), QPointF(side, high), QPointF(end.x(), high))
        return [start, *turns, end]


def told_short(step: RecipeStep) -> str:
    """The settings of a step on a card."""
    if step.off:
        return "switched off"
    about = find_operation(step.operation)
    words = []
    for p in about.settings:
        value = step.settings.get(p.name)
        if value in (None, "", p.default) or p.role == "new":
            continue
        try:
            words.append(shown_setting(p.checked(value), p))
        except Trouble:  # the checks say so
            words.append(str(value))
    return " · ".join(words[:3]) or "as usual"
