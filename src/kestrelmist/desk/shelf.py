"""The Shelf: the study's subjects and their images as thumbnails."""

from __future__ import annotations

import json

from PySide6.QtCore import Qt
from PySide6.QtGui import QImage, QPixmap
from PySide6.QtWidgets import QFrame, QHBoxLayout, QInputDialog, QLabel, QMenu, QScrollArea, QSizePolicy, QVBoxLayout, QWidget

from ..scene.thumbnail import SIDE
from ..study.study import ImageRecord
from .commands import ShelveImages
from .desk_model import Desk
from .theme.theme import Theme


class ImageCard(QFrame):
    """One image: thumbnail, name, size."""

    def __init__(self, desk: Desk, record: ImageRecord):
        super().__init__()
        self.desk, self.record = desk, record
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setFixedHeight(58)
        picture = QLabel()
        picture.setFixedSize(46, 46)
        picture.setPixmap(picture_of(record.thumbnail, 46))
        name, facts = QLabel(), QLabel()
        name.setText(name.fontMetrics().elidedText(record.name, Qt.TextElideMode.ElideRight, 124))
        facts.setProperty("kind", "soft")
        facts.setStyleSheet("font-size: 12px")
        facts.setText(record.short_facts)
        for label in (name, facts):  # words give way, the card keeps its width
            label.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        column = QVBoxLayout()
        column.setSpacing(1)
        column.addStretch()
        column.addWidget(name)
        column.addWidget(facts)
        column.addStretch()
        row = QHBoxLayout(self)
        row.setContentsMargins(5, 5, 3, 5)
        row.setSpacing(6)
        row.addWidget(picture)
        row.addLayout(column, 1)
        self.setAccessibleName(f"{record.subject}, {record.name}")
        self.setToolTip(short_facts(record))
        self.set_chosen(False)

    def set_chosen(self, chosen: bool) -> None:
        self.setObjectName("cardchosen" if chosen else "cardplain")
        self.style().polish(self)

    def mousePressEvent(self, event) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self.desk.show_image(self.record.id)

    def keyPressEvent(self, event) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Space):
            self.desk.show_image(self.record.id)
        else:
            super().keyPressEvent(event)

    def contextMenuEvent(self, event) -> None:
        menu = QMenu(self)
        menu.addAction("Show facts", lambda: (self.desk.show_image(self.record.id, lambda: self.desk.run("facts", {}))))
        take = menu.addAction("Take off the Shelf", lambda: self.desk.undo.push(
            ShelveImages(self.desk, [self.record.id], f"Take “{self.record.name}” off the Shelf", remove=True)))
        take.setEnabled(not self.desk.study.read_only)
        delete = menu.addAction("Delete for good…", self._ask_and_delete)
        delete.setEnabled(not self.desk.study.read_only)
        menu.exec(event.globalPos())

    def _ask_and_delete(self) -> None:
        name, sure = QInputDialog.getText(self, "Delete for good", f"“{self.record.name}”, its labels and the study's copy of its files will be gone.\n"
                                          "Type its name to be sure:")
        if sure:
            self.desk.delete_image(self.record.id, name)


def short_facts(record: ImageRecord) -> str:
    """What is said when the pointer rests on a thumbnail."""
    space = record.space
    shape, spacing = (space.shape[:2], space.spacing[:2]) if space.shape[2] == 1 else (space.shape, space.spacing)
    size = " × ".join(f"{s:.4g}" for s in spacing)
    lines = [f"{record.name} of {record.subject}", f"{record.modality} {record.format}".strip(),
             f"{' × '.join(map(str, shape))} voxels" + (f" of {size} {space.unit}" if space.unit != "px" else ", no scale given")]
    lines += [f"{a.size} {a.plural}" + (f", {a.step:.4g} {a.unit} apart" if a.step else "") for a in record.axes]
    try:
        taken = json.loads(record.facts.get("Acquisition", "{}"))
    except ValueError:
        taken = {}
    lines += [f"{words} {taken[key] * scale:.4g} {unit}" for key, words, scale, unit in (
        ("RepetitionTime", "Repetition time", 1, "s"), ("EchoTime", "Echo time", 1000, "ms"), ("MagneticFieldStrength", "Field", 1, "T"))
        if isinstance(taken.get(key), (int, float))]
    date = record.facts.get("SeriesDate") or record.facts.get("StudyDate") or ""
    lines += [f"Taken on {date[:4]}-{date[4:6]}-{date[6:8]}"] if len(date) == 8 and date.isdigit() else []
    return "\n".join([*lines, *record.notes])


def picture_of(thumbnail: bytes | None, size: int) -> QPixmap:
    """A stored thumbnail as a pixmap; night ground when there is none."""
    if not thumbnail or len(thumbnail) not in (SIDE * SIDE, 4 * SIDE * SIDE):
        pixmap = QPixmap(size, size)
        pixmap.fill(Theme.tokens.night)
        return pixmap
    colour = len(thumbnail) > SIDE * SIDE
    image = QImage(thumbnail, SIDE, SIDE, 4 * SIDE if colour else SIDE, QImage.Format.Format_RGB32 if colour else QImage.Format.Format_Grayscale8)
    pixmap = QPixmap.fromImage(image.scaled(size * 2, size * 2, Qt.AspectRatioMode.IgnoreAspectRatio, Qt.TransformationMode.SmoothTransformation))
    pixmap.setDevicePixelRatio(2)
    return pixmap


class Shelf(QWidget):
    """216 px on the left."""

    def __init__(self, desk: Desk, parent=None):
        super().__init__(parent)
        self.setObjectName("shelf")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedWidth(216)
        self.desk, self.cards = desk, {}
        title = QLabel("Shelf")
        title.setProperty("kind", "title")
        self._scroll = QScrollArea(widgetResizable=True)
        self._scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 10, 6, 8)
        column.setSpacing(6)
        column.addWidget(title)
        column.addWidget(self._scroll, 1)
        desk.shelf_changed.connect(self.fill)
        desk.image_changed.connect(self._choose)
        self.fill()

    def fill(self) -> None:
        """Lay out the cards anew."""
        inside = QWidget()
        inside.setProperty("kind", "scrolled")
        column = QVBoxLayout(inside)
        column.setContentsMargins(0, 0, 2, 0)
        column.setSpacing(5)
        self.cards, subject = {}, None
        for record in self.desk.study.records():
            if record.subject != subject:
                subject = record.subject
                heading = QLabel(subject)
                heading.setProperty("kind", "section")
                column.addWidget(heading)
            self.cards[record.id] = ImageCard(self.desk, record)
            column.addWidget(self.cards[record.id])
        if not self.cards:
            hint = QLabel("Nothing here yet. Drop a folder of scans anywhere, or choose one on the Bench.")
            hint.setWordWrap(True)
            hint.setProperty("kind", "soft")
            column.addWidget(hint)
        column.addStretch()
        self._scroll.setWidget(inside)
        self._choose()

    def _choose(self) -> None:
        for key, card in self.cards.items():
            card.set_chosen(self.desk.record is not None and self.desk.record.id == key)
