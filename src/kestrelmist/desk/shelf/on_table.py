"""On the table: cards of the layers that lie in the lead pane, top first."""

from __future__ import annotations

from PySide6.QtCore import QPoint, QSignalBlocker, QSize, Qt, Signal
from PySide6.QtWidgets import (
    QApplication,
    QHBoxLayout,
    QMenu,
    QSlider,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from ...core.overlap import Apart
from ..models.desk_model import Desk
from ..models.layers import Row
from ..theme.theme import icon
from ..widgets.carrying import carry, key_of
from ..widgets.plain_text import Words, ask_text, plain_tip
from .picture_card import PictureCard, picture_of
from .shelf import SHELF_WIDTH

MOST = 6
"""Cards that are seen; more layers lie on the table, and are told of."""
LOOKED_AT = 60
"""Images of which it is looked up whether they can lie there, those of one subject first."""
LISTED = 40
"""Images in the menu; of more, the Finder finds one."""


class LayerCard(PictureCard):
    """One layer: a click makes the Look its own; an eye, its opacity, and a cross that takes it away."""

    def __init__(self, desk: Desk, row: Row, chosen: bool):
        super().__init__(picture_of(desk.study.thumbnail(row.record.id), 38), 38, 56, (5, 4, 4, 4))
        self.desk, self.layers, self.row, self._from = desk, desk.layers, row, QPoint()
        self.key = row.record.id
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setObjectName("cardchosen" if chosen else "card")
        room, right = 96 if row.leads else 50, Qt.TextElideMode.ElideRight  # beside the eye and the cross
        self.name.setText(self.name.fontMetrics().elidedText(row.record.name, right, room))
        spacing, unit, lead = min(row.record.grid.spacing), row.record.grid.unit, desk.viewing.record
        other = lead is not None and lead.subject != row.record.subject  # whose it is, where that may surprise
        said = "leads" if row.leads else row.record.subject if other else f"{spacing:.3g} {unit}"
        self.facts.setText(self.facts.fontMetrics().elidedText(said, right, room))
        self.setAccessibleName(f"Layer {row.record.name} of {row.record.subject}")
        self.setToolTip(plain_tip(f"{row.record.name} of {row.record.subject}"))
        if row.leads:
            return
        self.eye = self._button("eye" if row.layer.shown else "eye-off", "Show or hide")
        self.eye.clicked.connect(lambda: self.layers.set_shown(self.key, not self.row.layer.shown))
        self.away = self._button("x", "Take it away")
        self.away.clicked.connect(lambda: self.layers.take_away(self.key))
        self.opacity = QSlider(Qt.Orientation.Horizontal)
        self.opacity.setRange(0, 100)
        self.opacity.setValue(round(100 * row.layer.opacity))
        self.opacity.setFixedHeight(14)
        self.opacity.setAccessibleName("Opacity")
        self.opacity.setToolTip("Opacity")
        self.opacity.valueChanged.connect(lambda value: self.layers.set_opacity(self.key, value / 100))
        self.words.insertWidget(3, self.opacity)
        self.line.addWidget(self.eye)
        self.line.addWidget(self.away)

    def _button(self, name: str, words: str) -> QToolButton:
        button = QToolButton()
        button.setIcon(icon(name, 15))
        button.setIconSize(QSize(15, 15))
        button.setFixedSize(20, 20)
        button.setAutoRaise(True)
        button.setAccessibleName(words)
        button.setToolTip(plain_tip(words))
        return button

    def mousePressEvent(self, event) -> None:
        self._from = event.position().toPoint()
        if event.button() == Qt.MouseButton.LeftButton:
            # chosen by the time the button is up: the card is made anew, which would end a drag
            event.accept()

    def mouseMoveEvent(self, event) -> None:
        far = (event.position().toPoint() - self._from).manhattanLength()
        if (
            not self.row.leads
            and event.buttons() & Qt.MouseButton.LeftButton
            and far >= QApplication.startDragDistance()
        ):
            carry(self, self.key, self.grab().scaledToWidth(120))

    def mouseReleaseEvent(self, event) -> None:
        if event.button() == Qt.MouseButton.LeftButton and self.rect().contains(event.position().toPoint()):
            self.layers.choose(self.key)

    def keyPressEvent(self, event) -> None:
        key, layers = event.key(), self.layers
        if key in (Qt.Key.Key_Return, Qt.Key.Key_Space):
            layers.choose(self.key)
        elif key == Qt.Key.Key_Delete:
            layers.take_away(self.key)
        elif key in (Qt.Key.Key_PageUp, Qt.Key.Key_PageDown):
            layers.move(self.key, 1 if key == Qt.Key.Key_PageUp else -1)
        else:
            super().keyPressEvent(event)

    def contextMenuEvent(self, event) -> None:
        if self.row.leads:
            return
        menu = QMenu(self)
        menu.addAction("Raise", lambda: self.layers.move(self.key, 1))
        menu.addAction("Lower", lambda: self.layers.move(self.key, -1))
        menu.addAction("Show beside what leads", lambda: self.desk.beside.add(self.key))
        menu.addAction("Only this, or all", lambda: self.layers.show_only(self.key))
        menu.addAction("Take it away", lambda: self.layers.take_away(self.key))
        menu.exec(event.globalPos())


class OnTable(QWidget):
    """Above the Shelf: what lies in the lead pane, and a plus that lays another image over it."""

    find = Signal(str)
    """What to look for in the Finder."""

    def __init__(self, desk: Desk, parent=None):
        super().__init__(parent)
        self.setObjectName("shelf")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedWidth(SHELF_WIDTH)
        self.setAcceptDrops(True)
        self.desk, self.layers = desk, desk.layers
        title = Words("On the table")
        title.setProperty("kind", "title")
        self.plus = QToolButton()
        self.plus.setAutoRaise(True)
        self.plus.setFixedSize(26, 26)
        self.plus.setAccessibleName("Lay an image over the one that leads")
        self.plus.setToolTip("Lay an image over the one that leads")
        self.plus.clicked.connect(self._offer)
        head = QHBoxLayout()
        head.addWidget(title, 1)
        head.addWidget(self.plus)
        self._cards = QVBoxLayout()
        self._cards.setSpacing(4)
        column = QVBoxLayout(self)
        column.setContentsMargins(10, 8, 7, 4)
        column.setSpacing(4)
        column.addLayout(head)
        column.addLayout(self._cards)
        self.more = Words()
        self.more.setProperty("kind", "soft")
        column.addWidget(self.more)
        self.cards: list[LayerCard] = []
        self.layers.changed.connect(self.fill)
        desk.viewing.looks_changed.connect(self._follow)
        self.dress()
        self.fill()

    def dress(self) -> None:
        """Put on the icons of the theme in force."""
        self.plus.setIcon(icon("plus", 16))
        self.fill()

    def fill(self) -> None:
        """Lay out the cards anew; one layer alone needs none."""
        for card in self.cards:
            self._cards.removeWidget(card)
            card.deleteLater()
        rows = self.layers.rows
        self.cards = [LayerCard(self.desk, row, row.record.id == self.layers.chosen) for row in rows[:MOST]]
        self.cards = self.cards if len(rows) > 1 else []
        self.more.setVisible(len(rows) > MOST)
        self.more.setText(f"and {len(rows) - MOST} more below")
        for card in self.cards:
            self._cards.addWidget(card)
        self.plus.setEnabled(self.desk.viewing.record is not None)

    def dragEnterEvent(self, event) -> None:
        if key_of(event.mimeData()) is not None:
            event.acceptProposedAction()

    def dropEvent(self, event) -> None:
        """An image of the Shelf is laid over the others; a card goes where it is dropped."""
        key = key_of(event.mimeData())
        if key is None:
            return
        event.acceptProposedAction()
        if self.layers.stack.of(key) is None:
            self.layers.lay_over(key)
            return
        keys = [card.key for card in self.cards]
        y = event.position().y()
        to = sum(card.geometry().center().y() < y for card in self.cards if card.key != key)
        if key in keys:
            self.layers.move(key, keys.index(key) - to)

    def _follow(self) -> None:
        for card in self.cards:
            layer = self.layers.stack.of(card.key)
            if layer is not None and not card.row.leads:
                with QSignalBlocker(card.opacity):
                    card.opacity.setValue(round(100 * layer.opacity))

    def offers(self) -> tuple[list[tuple[str, int]], list[tuple[str, int, Apart]]]:
        """Images that can lie over the one that leads, with what they are called, those of its subject first; and of
        others that were looked at why they cannot."""
        there, lead = self.there(), self.desk.viewing.record
        records = [r for r in self.desk.study.records() if r.id not in there]
        records.sort(key=lambda r: lead is not None and r.subject != lead.subject)
        can: list[tuple[str, int]] = []
        cannot: list[tuple[str, int, Apart]] = []
        for r in records[:LOOKED_AT]:
            words, why = f"{r.subject} · {r.name}", self.layers.why_not(r)
            if why is None:
                can.append((words, r.id))
            else:
                cannot.append((words, r.id, why))
        return can + [(f"{r.subject} · {r.name}", r.id) for r in records[LOOKED_AT:]], cannot

    def there(self, whole: bool = False) -> set[int]:
        """Images that lie here; of the lowest one only when `whole`."""
        return {row.record.id for row in self.layers.rows if not whole or row.leads}

    def ask_and_save(self) -> None:
        """Keep what lies here under a name."""
        record = self.desk.viewing.record
        name = ask_text(self, "Save the stack", "Its name:", record.name) if record is not None else None
        if name is not None:
            self.save(name)

    def save(self, name: str) -> None:
        """Keep what lies here under a name."""
        record = self.desk.viewing.record
        if record is not None:
            self.desk.save_view()
            self.desk.session.run("save-stack", {"image": record.id, "name": name})

    def stacks(self) -> list[tuple[str, int]]:
        """Stacks that were saved."""
        return [(f"{r.subject} · {r.name}", r.id) for r in self.desk.study.items.of_kind("stack")]

    def _offer(self) -> None:
        menu = QMenu(self)
        offers, others = self.offers()
        for words, key in offers[:LISTED]:
            menu.addAction(words.replace("&", "&&"), lambda key=key: self.layers.lay_over(key))
        if len(offers) > LISTED:
            menu.addAction(f"{len(offers) - LISTED} more: find one…", lambda: self.find.emit("Lay over: "))
        if others:
            folded = menu.addMenu(f"{len(others)} cannot lie here")
            folded.setToolTipsVisible(True)
            for words, key, why in others[:LISTED]:
                action = folded.addAction(f"{words} · {why.short}".replace("&", "&&"))
                action.setToolTip(plain_tip(str(why)))
                action.triggered.connect(lambda _=False, key=key: self.layers.lay_over(key))  # which says why
        for words, key in self.stacks():
            menu.addAction(f"Lay out: {words}".replace("&", "&&"), lambda key=key: self.layers.lay_out(key))
        menu.addSeparator()
        menu.addAction("Save the stack…", self.ask_and_save)
        if len(self.layers.rows) > 1:
            menu.addAction("Everything but the lowest away", self.layers.take_all_away)
        menu.exec(self.plus.mapToGlobal(self.plus.rect().bottomLeft()))
