"""The Shelf: the study's subjects and their images as thumbnails.

Cards are made for what is in sight and a little round it, so that a study of hundreds of images is as quick as one of
ten; the rest is known by its place alone.
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from dataclasses import dataclass

from PySide6.QtCore import QEvent, Qt, QTimer
from PySide6.QtWidgets import QApplication, QScrollArea, QVBoxLayout, QWidget

from ..core.kind import KINDS
from ..study.items import Record
from .desk_model import Desk
from .plain_text import Words
from .shelf_cards import CARDS, HEIGHT, Card
from .theme.theme import Theme

SHELF_WIDTH = 174
"""Pixels: with it and the Bench, the panes keep more than half of the smallest usual window."""
GAP = 5
ROUND = 3 * HEIGHT
"""Pixels above and below what is in sight for which there are cards too: the next ones that a key goes to."""


def _on_shelf(record: Record) -> bool:
    """Whether it has a card; what this version does not know has one, so that it is seen to be there."""
    kind = KINDS.get(record.kind)
    return kind is None or kind.on_shelf


@dataclass(frozen=True)
class Row:
    """A place in the column: of a thing, or of the subject whose things follow."""

    top: int
    height: int
    record: Record | None
    subject: str


class Shelf(QWidget):
    """On the left."""

    def __init__(self, desk: Desk, parent=None):
        super().__init__(parent)
        self.setObjectName("shelf")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedWidth(SHELF_WIDTH)
        self.desk = desk
        self.rows: list[Row] = []
        self.cards: dict[int, Card] = {}
        """By id, in the order of the column: of what is in sight or near it."""
        self._headings: dict[str, Words] = {}
        self._dressed: object = Theme.tokens
        title = Words("Shelf")
        title.setProperty("kind", "title")
        self._scroll = QScrollArea(widgetResizable=True)
        self._scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        column = QVBoxLayout(self)
        column.setContentsMargins(10, 10, 5, 8)
        column.setSpacing(6)
        column.addWidget(title)
        column.addWidget(self._scroll, 1)
        self._sight = QTimer(self, singleShot=True, interval=0)  # when the column has its height
        self._sight.timeout.connect(self._bring_into_sight)
        self._inside = QWidget()
        self._inside.setProperty("kind", "scrolled")
        self._inside.installEventFilter(self)
        self._hint = Words("Nothing here yet. Drop a folder of scans anywhere, or choose one on the Bench.")
        self._hint.setParent(self._inside)
        self._hint.setWordWrap(True)
        self._hint.setProperty("kind", "soft")
        self._scroll.setWidget(self._inside)
        self._scroll.verticalScrollBar().valueChanged.connect(self._lay)
        desk.session.shelf_changed.connect(self.fill)
        desk.viewing.lead_changed.connect(self._choose)
        self.fill()

    def fill(self) -> None:
        """Give all that there is its place."""
        if self.desk.session.closed:
            return
        self.rows, top, subject = [], 0, None
        for record in self.desk.study.items.of_kind():
            if not _on_shelf(record):
                continue
            if record.subject != subject:
                subject = record.subject
                height = self._heading_height()
                self.rows.append(Row(top, height, None, subject))
                top += height + GAP
            self.rows.append(Row(top, HEIGHT, record, subject))
            top += HEIGHT + GAP
        self._inside.setMinimumHeight(top)
        self._hint.setVisible(not self.rows)
        self._lay()
        self._choose()

    def _heading_height(self) -> int:
        return self.fontMetrics().height() + 4

    def _lay(self) -> None:
        """Have the cards and headings that are in sight or near it, each at its place."""
        if self.desk.session.closed:
            return
        up = self._scroll.verticalScrollBar().value() - ROUND
        down = up + self._scroll.viewport().height() + 2 * ROUND
        first = bisect_right(self.rows, up, key=lambda row: row.top + row.height)
        near = self.rows[first : bisect_left(self.rows, down, key=lambda row: row.top)]
        wanted = {row.record.id: row.record for row in near if row.record is not None}
        fresh = self._dressed is Theme.tokens
        self._dressed = Theme.tokens
        for key, card in list(self.cards.items()):
            held = card.hasFocus() and any(row.record == card.record for row in self.rows)
            if not fresh or (wanted.get(key) != card.record and not held):
                _drop(self.cards.pop(key))
        for subject in set(self._headings) - {row.subject for row in near if row.record is None}:
            _drop(self._headings.pop(subject))
        lead, width, before = self.desk.viewing.record, self._inside.width() - 2, None
        for row in near:
            if row.record is None:
                self._put(self._heading(row.subject), row, width)
                continue
            card = self.cards.get(row.record.id)
            if card is None:
                card = self.cards[row.record.id] = CARDS.get(row.record.kind, Card)(self.desk, row.record)
                card.set_chosen(lead is not None and lead.id == row.record.id)
            self._put(card, row, width)
            if before is not None:
                QWidget.setTabOrder(before, card)
            before = card
        places = {row.record.id: row.top for row in self.rows if row.record is not None}
        self.cards = dict(sorted(self.cards.items(), key=lambda pair: places[pair[0]]))

    def _put(self, widget: QWidget, row: Row, width: int) -> None:
        if widget.parent() is not self._inside:
            widget.setParent(self._inside)
        widget.setGeometry(0, row.top, width, row.height)
        widget.show()

    def _heading(self, subject: str) -> Words:
        if subject not in self._headings:
            heading = self._headings[subject] = Words(subject)
            heading.setProperty("kind", "section")
        return self._headings[subject]

    def eventFilter(self, watched, event) -> bool:
        if event.type() == QEvent.Type.Resize:
            self._hint.setGeometry(0, 0, self._inside.width() - 2, self._hint.heightForWidth(self._inside.width() - 2))
            self._lay()
        return super().eventFilter(watched, event)

    def go(self, count: int) -> None:
        """Bring the image that lies some places further down to the lead pane."""
        keys = [row.record.id for row in self.rows if row.record is not None and row.record.kind == "image"]
        lead = self.desk.viewing.record
        if keys:
            at = keys.index(lead.id) if lead is not None and lead.id in keys else -1 if count > 0 else 0
            self.desk.viewing.show_image(keys[(at + count) % len(keys)])

    def _choose(self) -> None:
        lead = self.desk.viewing.record
        for key, card in self.cards.items():
            card.set_chosen(lead is not None and lead.id == key)
        self._sight.start()

    def _bring_into_sight(self) -> None:
        lead = self.desk.viewing.record
        row = next(
            (row for row in self.rows if row.record is not None and lead is not None and row.record.id == lead.id), None
        )
        if row is not None:
            # the bar has the length of a column that grew just now when this is done
            QApplication.sendPostedEvents(None, QEvent.Type.LayoutRequest.value)
            self._scroll.ensureVisible(0, row.top + row.height // 2, 0, row.height // 2 + 6)


def _drop(widget: QWidget) -> None:
    widget.hide()
    widget.deleteLater()
