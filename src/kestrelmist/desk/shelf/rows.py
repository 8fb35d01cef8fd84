"""The low rows of the Shelf: the heading of a subject, and what was made of the image above."""

from __future__ import annotations

from collections.abc import Callable
from functools import cache

from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QFont, QPixmap
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QWidget

from ...study.items import ImageRecord, Record
from ..models.desk_model import Desk
from ..theme.theme import Theme, icon, words
from ..widgets.plain_text import Words, plain_tip
from .cards import CARDS, ICONS, ROOM, Card, ImageCard
from .tree import Stand, Subject

LOW = 26
"""Height of a row."""
STEP, SMALL = 10, 15
"""Pixels that each level is set in, and the side of its icon."""


class Heading(QPushButton):
    """The name of a subject and how many things it has; a click folds them away, or brings them back."""

    def __init__(self, subject: Subject, fold: Callable[[str], None]):
        super().__init__()
        self.subject = subject
        self.setProperty("kind", "heading")
        self.setFont(words(13, QFont.Weight.DemiBold))
        self.setIcon(icon("chevron-right" if subject.folded else "chevron-down", 14, Theme.tokens.soft))
        self.setIconSize(QSize(12, 12))
        count = Words(str(subject.count))
        count.setProperty("kind", "small")
        count.setFont(words(12))  # its letters are measured before it is dressed
        count.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 4, 0)
        row.addStretch(1)
        row.addWidget(count)
        room = ROOM + 40 - count.fontMetrics().horizontalAdvance(str(subject.count))
        name = subject.name or "no subject"
        self.setText(self.fontMetrics().elidedText(name, Qt.TextElideMode.ElideMiddle, room).replace("&", "&&"))
        self.setToolTip(plain_tip(f"{name}: {subject.count}"))
        state = "folded" if subject.folded else "unfolded"
        self.setAccessibleName(f"{name}, {subject.count}, {state}")
        self.clicked.connect(lambda: fold(subject.name))


@cache
def _made(card: type[Card]) -> type[Card]:
    """A low row that does what the card of a kind does; made once, as classes of Qt that go again are unsafe."""

    class Made(card):  # type: ignore[misc, valid-type]
        """What was made of the image above it."""

        HEIGHT, PICTURE, MARGINS = LOW, SMALL, (2, 0, 3, 0)

        @staticmethod
        def picture_for(desk: Desk, record: Record) -> QPixmap:
            name = "image" if isinstance(record, ImageRecord) else ICONS.get(record.kind, "circle-help")
            return icon(name, 14, Theme.tokens.soft).pixmap(14, 14)

        def write(self, label: str) -> None:
            self.facts.hide()
            metrics = self.name.fontMetrics()
            self.name.setText(metrics.elidedText(label, Qt.TextElideMode.ElideMiddle, self._room))

        def set_in(self, depth: int, label: str) -> None:
            """Set it in, under what it says there."""
            self.line.setContentsMargins(2 + STEP * depth, 0, 3, 0)
            self._room = ROOM + PICTURE_GAP - STEP * depth
            self.write(label)

        _room = ROOM

    return Made


PICTURE_GAP = 46 - SMALL
"""Pixels that a low row has more for words than a card."""


def made_row(desk: Desk, stand: Stand) -> QWidget:
    """The low row of a thing."""
    kind = CARDS.get(stand.record.kind, Card)
    made = _made(kind)(desk, stand.record)
    made.set_in(stand.depth, stand.label)  # type: ignore[attr-defined]
    return made


__all__ = ["LOW", "Heading", "ImageCard", "made_row"]
