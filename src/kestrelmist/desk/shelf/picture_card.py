"""A card with a small picture, and a name over a line about it: on the Shelf, and for the layers on the table."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QImage, QPixmap
from PySide6.QtWidgets import QFrame, QHBoxLayout, QSizePolicy, QVBoxLayout

from ...scene.thumbnail import SIDE
from ..theme.theme import Theme, words
from ..widgets.plain_text import Words


class PictureCard(QFrame):
    """Words give way, the card keeps its width: who writes into `name` and `facts` makes them fit."""

    def __init__(self, picture: QPixmap, side: int, height: int, margins: tuple[int, int, int, int]):
        super().__init__()
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setFixedHeight(height)
        self.picture, self.name, self.facts = Words(), Words(), Words()
        self.picture.setFixedSize(side, side)
        self.picture.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.picture.setPixmap(picture)
        self.facts.setProperty("kind", "small")
        self.facts.setFont(words(12))  # its letters are measured before it is dressed
        self.words, self.line = QVBoxLayout(), QHBoxLayout(self)
        self.words.setSpacing(0)
        self.words.addStretch()
        for label in (self.name, self.facts):
            label.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
            self.words.addWidget(label)
        self.words.addStretch()
        self.line.setContentsMargins(*margins)
        self.line.setSpacing(6)
        self.line.addWidget(self.picture)
        self.line.addLayout(self.words, 1)


def picture_of(thumbnail: bytes | None, size: int) -> QPixmap:
    """A stored thumbnail as a pixmap; night ground when there is none."""
    if not thumbnail or len(thumbnail) not in (SIDE * SIDE, 4 * SIDE * SIDE):
        pixmap = QPixmap(size, size)
        pixmap.fill(Theme.tokens.night)
        return pixmap
    colour = len(thumbnail) > SIDE * SIDE
    image = QImage(
        thumbnail,
        SIDE,
        SIDE,
        4 * SIDE if colour else SIDE,
        QImage.Format.Format_RGB32 if colour else QImage.Format.Format_Grayscale8,
    )
    pixmap = QPixmap.fromImage(
        image.scaled(
            size * 2, size * 2, Qt.AspectRatioMode.IgnoreAspectRatio, Qt.TransformationMode.SmoothTransformation
        )
    )
    pixmap.setDevicePixelRatio(2)
    return pixmap
