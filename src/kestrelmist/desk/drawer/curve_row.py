"""A held curve in the list beside the plot."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

from PySide6.QtCore import Qt
from PySide6.QtGui import QColor, QIcon, QPainter, QPen, QPixmap
from PySide6.QtWidgets import QCheckBox, QColorDialog, QGridLayout, QMenu, QToolButton, QWidget

from ...core.curve import DASHES, Curve
from ..widgets.plain_text import ask_text, plain_tip

LINES = {
    "solid": Qt.PenStyle.SolidLine,
    "dashed": Qt.PenStyle.DashLine,
    "dotted": Qt.PenStyle.DotLine,
    "dash-dot": Qt.PenStyle.DashDotLine,
}


def pen_of(curve: Curve) -> QPen:
    """How a curve is drawn."""
    pen = QPen(QColor(curve.colour), curve.width, LINES[curve.dashes])
    pen.setCosmetic(True)
    return pen


class Curves(Protocol):
    """What keeps the curves of a list."""

    def set_shown(self, key: int, on: bool) -> None: ...
    def let_go(self, key: int) -> None: ...
    def style(self, key: int, **changes) -> None: ...
    def rename(self, key: int, name: str) -> None: ...
    def more(self, key: int) -> list[tuple[str, Callable[[], object]]]:
        """What else can be done with a curve: words, and what does it."""


class CurveRow(QWidget):
    """A held curve: its line, whether it is drawn, its name; a menu for the rest."""

    def __init__(self, courses: Curves, key: int):
        super().__init__()
        self.courses, self.key, self.curve = courses, key, None
        self.line, self.shown, self.away = QToolButton(), QCheckBox(), QToolButton()
        self.line.setFixedSize(34, 22)
        self.line.setAccessibleName("How this curve is drawn")
        self.line.clicked.connect(lambda: self.style_menu().exec(self.line.mapToGlobal(self.line.rect().bottomLeft())))
        self.shown.toggled.connect(lambda on: courses.set_shown(key, on))
        self.away.setText("×")
        self.away.setAccessibleName("Take this curve away")
        self.away.setToolTip("Take it away; undo brings it back")
        self.away.setFixedSize(20, 20)
        self.away.clicked.connect(lambda: courses.let_go(key))
        row = QGridLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setHorizontalSpacing(4)
        row.setColumnStretch(1, 1)
        for n, widget in enumerate((self.line, self.shown, self.away)):
            row.addWidget(widget, 0, n)

    def show_curve(self, curve: Curve, shown: bool) -> None:
        self.curve = curve
        self.shown.blockSignals(True)
        self.shown.setChecked(shown)
        self.shown.blockSignals(False)
        self.shown.setText(self.shown.fontMetrics().elidedText(curve.name, Qt.TextElideMode.ElideRight, 132))
        self.shown.setToolTip(plain_tip(f"{curve.name}\n{curve.of}"))
        pixmap = QPixmap(60, 24)
        pixmap.fill(Qt.GlobalColor.transparent)
        with QPainter(pixmap) as painter:
            pen = pen_of(curve)
            pen.setWidthF(2 * curve.width)
            painter.setPen(pen)
            painter.drawLine(2, 12, 58, 12)
        pixmap.setDevicePixelRatio(2)
        self.line.setIcon(QIcon(pixmap))
        self.line.setIconSize(pixmap.deviceIndependentSize().toSize())

    def style_menu(self) -> QMenu:
        menu, courses, key = QMenu(self), self.courses, self.key
        menu.addAction("Colour…", self._ask_colour)
        for width in (0.8, 1.5, 3.0):
            menu.addAction(f"{width:g} pixels wide", lambda width=width: courses.style(key, width=width))
        for dashes in DASHES:
            menu.addAction(dashes.capitalize(), lambda dashes=dashes: courses.style(key, dashes=dashes))
        menu.addSeparator()
        menu.addAction("Rename…", self._ask_name)
        for words, do in courses.more(key):
            menu.addAction(words, do)
        return menu

    def _ask_colour(self) -> None:
        chosen = QColorDialog.getColor(QColor(self.curve.colour), self, "Colour of the curve")
        if chosen.isValid():
            self.courses.style(self.key, colour=chosen.name().upper())

    def _ask_name(self) -> None:
        name = ask_text(self, "Rename", "Its name:", self.curve.name)
        if name is not None:
            self.courses.rename(self.key, name)
