"""What came of the steps of a recipe on the slice in view, below one another."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QPixmap
from PySide6.QtWidgets import QDialog, QFrame, QScrollArea, QVBoxLayout, QWidget

from ...study.recipes.slice_trial import Tried
from ..widgets.plain_text import Words

WIDE = 420
"""Pixels of a picture."""


class TriedSheet(QDialog):
    """A picture a step, or why there is none. Nothing of it is kept."""

    def __init__(self, parent: QWidget, tried: list[tuple[Tried, bytes | None]]):
        super().__init__(parent)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setWindowTitle("On the slice in view")
        self.lines: list[str] = []
        inside = QWidget()
        inside.setProperty("kind", "scrolled")
        column = QVBoxLayout(inside)
        for one, png in tried:
            words = f"{one.number} {one.title}" + (f": {one.said}" if one.said else "")
            self.lines.append(words)
            line = Words(words)
            line.setWordWrap(True)
            column.addWidget(line)
            if png is not None:
                picture, seen = QPixmap(), Words()
                picture.loadFromData(png)
                seen.setPixmap(picture.scaledToWidth(WIDE, Qt.TransformationMode.SmoothTransformation))
                seen.setAccessibleName(words)
                column.addWidget(seen)
        column.addStretch(1)
        scroll = QScrollArea(widgetResizable=True)
        scroll.setFrameShape(QFrame.Shape.NoFrame)
        scroll.setWidget(inside)
        whole = QVBoxLayout(self)
        whole.addWidget(scroll)
        self.resize(WIDE + 60, 640)
