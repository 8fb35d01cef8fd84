"""The Shelf: the study's subjects and their images as thumbnails."""

from __future__ import annotations

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QVBoxLayout, QWidget

from ..core.kind import KINDS
from ..study.items import Record
from .column import Column, Row
from .desk_model import Desk
from .plain_text import Words
from .shelf_cards import CARDS, HEIGHT, Card
from .theme.theme import Theme

SHELF_WIDTH = 174
"""Pixels: with it and the Bench, the panes keep more than half of the smallest usual window."""


def _on_shelf(record: Record) -> bool:
    """Whether it has a card; what this version does not know has one, so that it is seen to be there."""
    kind = KINDS.get(record.kind)
    return kind is None or kind.on_shelf


class Shelf(QWidget):
    """On the left."""

    def __init__(self, desk: Desk, parent=None):
        super().__init__(parent)
        self.setObjectName("shelf")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedWidth(SHELF_WIDTH)
        self.desk, self._dressed = desk, Theme.tokens
        self._rows: dict[int, Row] = {}
        title = Words("Shelf")
        title.setProperty("kind", "title")
        self.column = Column(gap=5, right=2)
        self._hint = Words("Nothing here yet. Drop a folder of scans anywhere, or choose one on the Bench.")
        self._hint.setWordWrap(True)
        self._hint.setProperty("kind", "soft")
        column = QVBoxLayout(self)
        column.setContentsMargins(10, 10, 5, 8)
        column.setSpacing(6)
        column.addWidget(title)
        column.addWidget(self._hint)
        column.addWidget(self.column, 1)
        self._sight = QTimer(self, singleShot=True, interval=0)  # when the column has its height
        self._sight.timeout.connect(self._bring_into_sight)
        desk.session.shelf_changed.connect(self.fill)
        desk.viewing.lead_changed.connect(self._choose)
        self.fill()

    @property
    def cards(self) -> dict[int, Card]:
        """By id, from above: of what is in sight or near it."""
        return {key: card for key, card in self.column.widgets.items() if isinstance(card, Card)}

    def fill(self) -> None:
        """Give all that there is its place."""
        if self.desk.session.closed:
            return
        rows: list[Row] = []
        # of thousands of rows few are new each time
        before, now, shelved = self._rows, dict[int, Row](), dict[str, bool]()
        subject, tall = None, self.fontMetrics().height() + 4
        for record in self.desk.study.items.of_kind():
            if record.kind not in shelved:
                shelved[record.kind] = _on_shelf(record)
            if not shelved[record.kind]:
                continue
            if record.subject != subject:
                subject = record.subject
                rows.append(Row(("subject", subject), subject, tall, _heading))
            row = before.get(record.id)
            if row is None or row.shows is not record:
                row = Row(record.id, record, HEIGHT, self._card)
            now[record.id] = row
            rows.append(row)
        self._rows = now
        self._hint.setVisible(not rows)
        self.column.fill(rows, anew=self._dressed is not Theme.tokens)
        self._dressed = Theme.tokens
        self._choose()

    def _card(self, record: Record) -> Card:
        card, lead = CARDS.get(record.kind, Card)(self.desk, record), self.desk.viewing.record
        card.set_chosen(lead is not None and lead.id == record.id)
        return card

    def go(self, count: int) -> None:
        """Bring the image that lies some places further down to the lead pane."""
        keys = [record.id for record in self.desk.study.records()]
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
        if lead is not None:
            self.column.bring_into_sight(lead.id)


def _heading(subject: str) -> Words:
    heading = Words(subject)
    heading.setProperty("kind", "section")
    return heading
