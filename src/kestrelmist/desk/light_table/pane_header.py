"""The strip above a pane: a cube with the plane's face lit, its name, and where it stands."""

from __future__ import annotations

from PySide6.QtCore import QPointF, Qt, Signal
from PySide6.QtGui import QColor, QPainter, QPen, QPixmap, QPolygonF
from PySide6.QtWidgets import QHBoxLayout, QWidget

from ..plain_text import Words, plain_tip
from ..theme.theme import Theme

FACES = {"Coronal": "front", "Axial": "top", "Sagittal": "side", "Solid": None}


def cube(name: str, size: int = 18) -> QPixmap:
    """A small cube seen from a corner, the face that the plane is parallel to lit."""
    pixmap = QPixmap(size * 2, size * 2)
    pixmap.fill(Qt.GlobalColor.transparent)
    with QPainter(pixmap) as painter:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.scale(size / 9, size / 9)
        top = [QPointF(*p) for p in ((9, 2), (15.5, 5), (9, 8), (2.5, 5))]
        front = [QPointF(*p) for p in ((2.5, 5), (9, 8), (9, 16), (2.5, 13))]
        side = [QPointF(*p) for p in ((9, 8), (15.5, 5), (15.5, 13), (9, 16))]
        painter.setPen(QPen(QColor("#B9C6CC"), 1.1, j=Qt.PenJoinStyle.RoundJoin))
        for face, points in (("top", top), ("front", front), ("side", side)):
            painter.setBrush(QColor(Theme.tokens.chip) if FACES.get(name) == face else Qt.BrushStyle.NoBrush)
            painter.drawPolygon(QPolygonF(points))
    pixmap.setDevicePixelRatio(2)
    return pixmap


class PaneHeader(QWidget):
    """Click it to bring the pane to the lead."""

    clicked = Signal()

    def __init__(self, name: str, parent=None):
        super().__init__(parent)
        self.setObjectName("paneheader")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(26)
        self.picture, self.name, self.place = Words(), Words(name), Words()
        self.picture.setPixmap(cube(name))
        self.place.setProperty("kind", "figures")
        row = QHBoxLayout(self)
        row.setContentsMargins(9, 0, 9, 0)
        row.setSpacing(7)
        row.addWidget(self.picture)
        row.addWidget(self.name)
        row.addStretch()
        row.addWidget(self.place)
        self.set_lead(False)

    def set_name(self, name: str) -> None:
        """What the pane is called: its plane, or "Picture" when the image has no sides."""
        self.name.setText(name)

    def set_lead(self, lead: bool) -> None:
        self.setCursor(Qt.CursorShape.ArrowCursor if lead else Qt.CursorShape.PointingHandCursor)
        self.setToolTip("" if lead else plain_tip(f"Click to make {self.name.text()} the lead pane"))

    def mousePressEvent(self, event) -> None:
        self.clicked.emit()
