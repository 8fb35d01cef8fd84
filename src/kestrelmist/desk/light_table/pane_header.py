"""The strip above a pane: a cube with the plane's face lit, its name, and where it stands."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QPainter, QPen, QPixmap, QPolygonF
from PySide6.QtWidgets import QHBoxLayout, QSizePolicy, QToolButton, QWidget

from ..theme.theme import Theme, icon, icon_pixmap
from ..widgets.plain_text import Words, plain_tip

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


BUTTONS = 96
"""Pixels that the cube and the buttons take."""


class PaneHeader(QWidget):
    """Click it to bring the pane to the lead. Of images side by side it says which image it is, and what it follows."""

    clicked = Signal()
    floated = Signal()
    closed = Signal()

    def __init__(self, name: str, parent=None):
        super().__init__(parent)
        self.setObjectName("paneheader")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(26)
        self.picture, self.name, self.place, self.following = Words(), Words(name), Words(), Words()
        self.picture.setPixmap(cube(name))
        for label in (self.place, self.following):
            label.setProperty("kind", "figures")
        self.name.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.away = self._button("x", "Take this image away")
        self.away.clicked.connect(self.closed)
        self.away.hide()
        self.float = self._button("picture-in-picture-2", "Float this pane, or bring it back")
        self.float.clicked.connect(self.floated)
        row = QHBoxLayout(self)
        row.setContentsMargins(9, 0, 4, 0)
        row.setSpacing(7)
        row.addWidget(self.picture)
        row.addWidget(self.name, 1)
        row.addWidget(self.following)
        row.addWidget(self.place)
        row.addWidget(self.float)
        row.addWidget(self.away)
        self._lead, self._words = False, name
        self.set_lead(False)

    def _button(self, name: str, words: str) -> QToolButton:
        button = QToolButton()
        button.setIcon(icon(name, 13, "#B9C6CC"))
        button.setIconSize(QSize(13, 13))
        button.setFixedSize(18, 18)
        button.setAccessibleName(words)
        button.setToolTip(plain_tip(words))
        button.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        return button

    def set_name(self, name: str, plane: str = "") -> None:
        """What the pane is called: its plane, or "Picture" when the image has no sides; or the image, with the plane
        after it."""
        self._words = f"{name} · {plane}" if plane else name
        self._elide()

    def set_place(self, text: str) -> None:
        """Where the pane stands, or what it counts."""
        self.place.setText(text)
        self._elide()

    def set_leading(self, leads: bool, following: str) -> None:
        """Of images side by side: whether this one leads, or else how it follows."""
        name = "star" if leads else "link-2" if following != "apart" else "link-2-off"
        self.following.setPixmap(icon_pixmap(name, Theme.tokens.chip if leads else "#B9C6CC", 14))
        self.following.setToolTip(
            plain_tip("This image leads" if leads else f"Moves with the one that leads: {following}")
        )
        self.following.setAccessibleName("leads" if leads else following)
        self.away.show()

    @property
    def title(self) -> str:
        return self._words

    def _elide(self) -> None:
        """The whole name does not always find room; the place of the slice gives way first."""
        metrics, place = self.name.fontMetrics(), self.place.sizeHint().width()
        room = self.width() - BUTTONS - (20 if self.away.isVisibleTo(self) else 0)
        both = metrics.horizontalAdvance(self._words) + place + 8 <= room
        self.place.setVisible(both or room < 60)
        room -= place if both else 0
        self.name.setText(metrics.elidedText(self._words, Qt.TextElideMode.ElideRight, max(room, 30)))

    def resizeEvent(self, event) -> None:
        self._elide()
        super().resizeEvent(event)

    def set_lead(self, lead: bool) -> None:
        self._lead = lead
        self.setCursor(Qt.CursorShape.ArrowCursor if lead else Qt.CursorShape.PointingHandCursor)
        self.setToolTip("" if lead else plain_tip(f"Click to make {self._words} the lead pane"))

    def mousePressEvent(self, event) -> None:
        self.clicked.emit()
