"""The cards of the Shelf: a picture of a thing, its name, and a line about it."""

from __future__ import annotations

import json
from collections.abc import Callable

from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QFontMetrics, QPixmap
from PySide6.QtWidgets import QApplication, QMenu

from ...study.items import ImageRecord, Record
from ..models.desk_model import Desk
from ..theme.theme import Theme, icon
from ..widgets.carrying import carry
from ..widgets.plain_text import ask_text, plain_tip
from .picture_card import PictureCard, picture_of

ROOM = 86
"""Pixels for the words of a card, which also have their place beside a scroll bar."""
HEIGHT, PICTURE = 62, 46
ICONS = {"transform": "move-3d", "table": "table"}


class Card(PictureCard):
    """One thing: a picture, its name, and a line about it. Words are shown as they are, never as markup."""

    HEIGHT, PICTURE, MARGINS = HEIGHT, PICTURE, (5, 5, 3, 5)
    several: Callable[[], list[int]] = staticmethod(list)
    """Gives the ids of all that are chosen, with it among them when several are."""
    choose_too: Callable[[int, bool], None] = staticmethod(lambda key, all_between: None)
    """Called with a click that chooses one more, or all in between."""

    def __init__(self, desk: Desk, record: Record):
        super().__init__(self.picture_for(desk, record), self.PICTURE, self.HEIGHT, self.MARGINS)
        self.desk, self.record = desk, record
        self.write(record.name)
        self.setAccessibleName(f"{record.subject}, {record.name}")
        self.setToolTip(plain_tip(self.told()))
        self.set_chosen(False)

    def write(self, label: str) -> None:
        """Show what it is called, and a line about it."""
        self.name.setText(two_lines(label, self.name.fontMetrics(), ROOM))
        told, metrics = self.record.short_facts, self.facts.fontMetrics()
        if metrics.horizontalAdvance(told) > ROOM:  # the first of them; all are told by the pointer
            told = metrics.elidedText(told.split(" · ")[0], Qt.TextElideMode.ElideRight, ROOM)
        self.facts.setText(told)

    @staticmethod
    def picture_for(desk: Desk, record: Record) -> QPixmap:
        return icon(ICONS.get(record.kind, "circle-help"), 22, Theme.tokens.soft).pixmap(22, 22)

    def told(self) -> str:
        """What is said when the pointer rests on it."""
        record = self.record
        if not record.known:
            return f"{record.name}: a {record.kind}, which this version does not know; it is kept as it is"
        return f"{record.name} of {record.subject}\n{record.short_facts}"

    def set_chosen(self, chosen: bool) -> None:
        name = "cardchosen" if chosen else "cardplain"
        if self.objectName() != name:
            self.setObjectName(name)
            self.style().polish(self)

    def show_it(self) -> None:
        """Choose it."""

    def mousePressEvent(self, event) -> None:
        if event.button() == Qt.MouseButton.LeftButton and not self._chooses(event):
            self.show_it()

    def _chooses(self, event) -> bool:
        """Whether a click chooses one more instead of showing it."""
        held = event.modifiers()
        more = bool(held & (Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier))
        if more:
            self.choose_too(self.record.id, bool(held & Qt.KeyboardModifier.ShiftModifier))
        return more

    def keyPressEvent(self, event) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Space):
            self.show_it()
        elif event.key() == Qt.Key.Key_F2:
            self.ask_and_rename()
        else:
            super().keyPressEvent(event)

    def actions(self, menu: QMenu) -> None:
        """What can be done with it besides what can be done with all."""

    def contextMenuEvent(self, event) -> None:
        menu = QMenu(self)
        several = self.several()
        if len(several) > 1:
            self._actions_of_several(menu, several)
            menu.exec(event.globalPos())
            return
        self.actions(menu)
        session, key = self.desk.session, self.record.id
        changing = [
            menu.addAction("Rename…", self.ask_and_rename),
            menu.addAction("Take off the Shelf", lambda: session.run("take-off", {"thing": key})),
            menu.addAction("Delete for good…", self.ask_and_delete),
        ]
        for action in changing:
            action.setEnabled(self.record.known and not self.desk.study.read_only)
        menu.exec(event.globalPos())

    def _actions_of_several(self, menu: QMenu, keys: list[int]) -> None:
        """What can be done with several things at once."""
        session, count = self.desk.session, len(keys)
        images = [k for k in keys if isinstance(self.desk.study.items.get(k), ImageRecord)]
        if 2 <= len(images) == count <= 4:
            menu.addAction("Show them side by side", lambda: self.desk.beside.show(images))
        changing = [menu.addAction(f"Take {count} off the Shelf", lambda: session.take_off(keys))]
        if len(images) == count:
            changing.append(menu.addAction(f"Visit of {count} images…", lambda: self._ask_visit(images)))
        for action in changing:
            action.setEnabled(not self.desk.study.read_only)

    def _ask_visit(self, keys: list[int]) -> None:
        name = ask_text(self, "Visit", "Its name, such as before:")
        if name:
            self.desk.session.run("set-visit", {"image": keys[0], "others": keys[1:], "visit": name})

    def ask_and_rename(self) -> None:
        name = ask_text(self, "Rename", "Its name:", self.record.name)
        if name is not None:
            self.desk.session.run("rename", {"thing": self.record.id, "name": name})

    def ask_and_delete(self) -> None:
        words = (
            f"“{self.record.name}”, what is of it and the study's copy of its files will be gone.\n"
            "Type its name to be sure:"
        )
        name = ask_text(self, "Delete for good", words)
        if name is not None:
            self.desk.session.delete(self.record.id, name)


class ImageCard(Card):
    """An image; a click brings it to the lead pane."""

    def __init__(self, desk: Desk, record: ImageRecord):
        super().__init__(desk, record)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self._from = QPoint()

    @staticmethod
    def picture_for(desk: Desk, record: Record) -> QPixmap:
        return picture_of(desk.study.thumbnail(record.id), PICTURE)

    def told(self) -> str:
        assert isinstance(self.record, ImageRecord)
        return short_facts(self.record)

    def show_it(self) -> None:
        self.desk.viewing.show_image(self.record.id)

    def mousePressEvent(self, event) -> None:
        self._from = event.position().toPoint()  # a click shows it when the button goes up; a drag lays it somewhere

    def mouseMoveEvent(self, event) -> None:
        far = (event.position().toPoint() - self._from).manhattanLength()
        if event.buttons() & Qt.MouseButton.LeftButton and far >= QApplication.startDragDistance():
            carry(self, self.record.id, self.picture.pixmap())

    def mouseReleaseEvent(self, event) -> None:
        inside = self.rect().contains(event.position().toPoint())
        if event.button() == Qt.MouseButton.LeftButton and inside and not self._chooses(event):
            self.show_it()

    def actions(self, menu: QMenu) -> None:
        key, lead = self.record.id, self.desk.viewing.record
        over = menu.addAction(
            f"Lay over “{lead.name.replace('&', '&&')}”" if lead else "Lay over the lead image",
            lambda: self.desk.layers.lay_over(key),
        )
        over.setEnabled(lead is not None and lead.id != key)
        beside = menu.addAction("Show beside it", lambda: self.desk.beside.add(key))
        beside.setEnabled(lead is not None and lead.id != key)
        menu.addAction("Show facts", lambda: self.desk.session.run("facts", {"image": key}))


class TransformCard(Card):
    """A transform; its menu places the lead image by it."""

    def actions(self, menu: QMenu) -> None:
        lead, key = self.desk.viewing.record, self.record.id
        named = f"“{lead.name}”" if lead else "the lead image"
        # an alignment leads from the image that stays to the one that moved
        for back, words in ((False, f"Place {named} by it"), (True, f"Place {named} by its way back")):
            given = {"transform": key, "back": back}
            place = menu.addAction(words, lambda _=False, given=given: self.desk.run("place-by", given))
            place.setEnabled(lead is not None)
        menu.addAction("Show what it aligns", lambda: self.desk.alignment.look_at(key))
        menu.addAction("Turn it round", lambda: self.desk.session.run("invert-transform", {"transform": key}))


def two_lines(name: str, metrics: QFontMetrics, room: int) -> str:
    """A name on at most two lines. What is made of an image is called like it with a word more: so both its ends are
    kept."""
    if metrics.horizontalAdvance(name) <= room:
        return name
    words, first = name.split(" "), ""
    while len(words) > 1 and metrics.horizontalAdvance(f"{first} {words[0]}".strip()) <= room:
        first = f"{first} {words.pop(0)}".strip()
    mode = Qt.TextElideMode.ElideLeft if first else Qt.TextElideMode.ElideMiddle
    rest = metrics.elidedText(" ".join(words), mode, room)
    return f"{first}\n{rest}" if first else rest


CARDS = {"image": ImageCard, "transform": TransformCard}
"""Cards of the kinds that have one of their own."""


def short_facts(record: ImageRecord) -> str:
    """What is said when the pointer rests on a thumbnail."""
    space = record.grid
    shape, spacing = (space.shape[:2], space.spacing[:2]) if space.shape[2] == 1 else (space.shape, space.spacing)
    size = " × ".join(f"{s:.4g}" for s in spacing)
    lines = [
        f"{record.name} of {record.subject}",
        f"{record.modality} {record.format}".strip(),
        f"{' × '.join(map(str, shape))} voxels"
        + (f" of {size} {space.unit}" if space.unit != "px" else ", no scale given"),
    ]
    lines += [f"{a.size} {a.plural}" + (f", {a.step:.4g} {a.unit} apart" if a.step else "") for a in record.axes]
    try:
        taken = json.loads(record.facts.get("Acquisition", "{}"))
    except ValueError:
        taken = {}
    lines += [
        f"{words} {taken[key] * scale:.4g} {unit}"
        for key, words, scale, unit in (
            ("RepetitionTime", "Repetition time", 1, "s"),
            ("EchoTime", "Echo time", 1000, "ms"),
            ("MagneticFieldStrength", "Field", 1, "T"),
        )
        if isinstance(taken.get(key), (int, float))
    ]
    date = record.facts.get("SeriesDate") or record.facts.get("StudyDate") or ""
    lines += [f"Taken on {date[:4]}-{date[4:6]}-{date[6:8]}"] if len(date) == 8 and date.isdigit() else []
    return "\n".join([*lines, *(c.sentence for c in record.caveats)])
