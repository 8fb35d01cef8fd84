"""The Shelf: the study's subjects and their images as thumbnails."""

from __future__ import annotations

from contextlib import suppress

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from ...core.errors import Trouble
from ...core.kind import KINDS
from ..models.desk_model import Desk
from ..theme.theme import Theme
from ..widgets.plain_text import Words
from .cards import CARDS, HEIGHT, Card
from .column import Column, Row
from .rows import LOW, Heading, made_row
from .tree import Stand, Subject, stands

FOLDED = "folded subjects"
"""Under which the study remembers them."""
SHELF_WIDTH = 174
"""Pixels: with it and the Bench, the panes keep more than half of the smallest usual window."""


def _has_card(name: str) -> bool:
    """Whether things of a kind have a card; what this version does not know has one, so that it is seen to be there."""
    kind = KINDS.get(name)
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
        self._order: list[int] = []
        self._led: int | None = None
        title, self.told = Words("Shelf"), Words()
        title.setProperty("kind", "title")
        self.told.setProperty("kind", "small")
        head = QHBoxLayout()
        head.addWidget(title)
        head.addStretch(1)
        head.addWidget(self.told)
        self.filter = QLineEdit()
        self.filter.setPlaceholderText("Filter")
        self.filter.setAccessibleName("Filter the Shelf by name, subject or kind")
        self.filter.setClearButtonEnabled(True)
        self.filter.textChanged.connect(self.fill)
        self.column = Column(gap=5, right=2)
        self._hint = Words("Nothing here yet. Drop a folder of scans anywhere, or choose one on the Bench.")
        self._hint.setWordWrap(True)
        self._hint.setProperty("kind", "soft")
        column = QVBoxLayout(self)
        column.setContentsMargins(10, 10, 5, 8)
        column.setSpacing(6)
        column.addLayout(head)
        narrow = QHBoxLayout()  # as wide as the cards, beside their bar
        narrow.setContentsMargins(0, 0, 10, 0)
        narrow.addWidget(self.filter)
        column.addLayout(narrow)
        column.addWidget(self._hint)
        column.addWidget(self.column, 1)
        self._sight = QTimer(self, singleShot=True, interval=0)  # when the column has its height
        self._sight.timeout.connect(self._bring_into_sight)
        self.folded = self._remembered()
        self.chosen: list[int] = []
        """Ids of several that were chosen together; empty when what leads is."""
        desk.session.shelf_changed.connect(self.fill)
        desk.viewing.lead_changed.connect(self._choose)
        self.fill()

    def _remembered(self) -> frozenset[str]:
        kept = self.desk.study.catalogue.recall(FOLDED, [])
        return frozenset(name for name in kept if isinstance(name, str)) if isinstance(kept, list) else frozenset()

    def fold(self, subject: str) -> None:
        """Fold a subject's things away, or bring them back."""
        self.folded = self.folded ^ {subject}
        if not self.desk.study.read_only:
            with suppress(Trouble):  # that it is not remembered is no reason to stop anyone
                self.desk.study.catalogue.remember(FOLDED, sorted(self.folded))
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
        before, now, all_there = self._rows, dict[int, Row](), 0
        typed, tall = self.filter.text(), self.fontMetrics().height() + 8
        for one in stands(self.desk.study.items.of_kind(), self.folded, typed, _has_card):
            if isinstance(one, Subject):
                all_there += one.count
                rows.append(Row(("subject", one.name), one, tall, lambda shown: Heading(shown, self.fold)))
                continue
            row = before.get(one.record.id)
            if row is None or row.shows != one or row.shows.record is not one.record:
                low = one.depth > 0
                row = Row(one.record.id, one, LOW if low else HEIGHT, self._card)
            now[one.record.id] = row
            rows.append(row)
        self._rows = now
        self._order = [row.key for row in rows if isinstance(row.key, int)]
        self._hint.setVisible(not rows and not typed.strip())
        self.filter.setVisible(bool(rows) or bool(typed))
        self.told.setText(f"{all_there} found" if typed.strip() else "")
        self.column.fill(rows, anew=self._dressed is not Theme.tokens)
        self._dressed = Theme.tokens
        self._choose()

    def _card(self, stand: Stand) -> QWidget:
        record = stand.record
        card = made_row(self.desk, stand) if stand.depth else CARDS.get(record.kind, Card)(self.desk, record)
        assert isinstance(card, Card)
        card.several = lambda: self.chosen if record.id in self.chosen else []
        card.choose_too = self._choose_too
        card.set_chosen(self._is_chosen(record.id))
        return card

    def _is_chosen(self, key: int) -> bool:
        lead = self.desk.viewing.record
        return key in self.chosen if self.chosen else lead is not None and lead.id == key

    def _choose_too(self, key: int, all_between: bool) -> None:
        """One more is chosen, or is no more; or all between the last one and it."""
        lead = self.desk.viewing.record
        chosen = self.chosen or ([lead.id] if lead is not None else [])
        if all_between and chosen and chosen[-1] in self._order and key in self._order:
            a, b = sorted((self._order.index(chosen[-1]), self._order.index(key)))
            self.chosen = list(dict.fromkeys([*chosen, *self._order[a : b + 1]]))
        else:
            self.chosen = [k for k in chosen if k != key] if key in chosen else [*chosen, key]
        self._dress_chosen()

    def _dress_chosen(self) -> None:
        for key, card in self.cards.items():
            card.set_chosen(self._is_chosen(key))

    def go(self, count: int) -> None:
        """Bring the image that lies some places further down to the lead pane."""
        keys = [record.id for record in self.desk.study.records()]
        lead = self.desk.viewing.record
        if keys:
            at = keys.index(lead.id) if lead is not None and lead.id in keys else -1 if count > 0 else 0
            self.desk.viewing.show_image(keys[(at + count) % len(keys)])

    def _choose(self) -> None:
        there = self._rows
        self.chosen = [key for key in self.chosen if key in there] if self._lead_is_as_before() else []
        self._dress_chosen()
        self._sight.start()

    def _lead_is_as_before(self) -> bool:
        """Whether the same image leads: where another one does, it alone is chosen."""
        lead = self.desk.viewing.record
        before, self._led = self._led, None if lead is None else lead.id
        return before == self._led

    def _bring_into_sight(self) -> None:
        lead = self.desk.viewing.record
        if lead is not None:
            self.column.bring_into_sight(lead.id)
