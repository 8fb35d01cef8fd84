"""How the chosen mark looks and its number is told, and giving that to all."""

from __future__ import annotations

from PySide6.QtCore import QSize, Signal
from PySide6.QtGui import QColor, QIcon, QPixmap
from PySide6.QtWidgets import QCheckBox, QColorDialog, QComboBox, QGridLayout, QPushButton, QToolButton, QWidget

from ....core.geometry.mark import Mark
from ...widgets.number_field import number
from ...widgets.plain_text import Words, plain_tip
from ..rows import quietly

UNITS = (("suited", ""), ("nm", "nm"), ("µm", "um"), ("mm", "mm"), ("cm", "cm"))
MOST = 6
"""Decimals that can be chosen."""


class MarkLook(QWidget):
    """Line, letters, unit and decimals of one mark."""

    wanted = Signal(str, dict)
    """What is done, and the facts of the mark that are to change."""
    for_all = Signal()
    """All marks are to look so."""

    def __init__(self):
        super().__init__()
        self.mark: Mark | None = None
        self.colour = QToolButton()
        self.colour.setIconSize(QSize(16, 16))
        self.colour.setAccessibleName("Colour of the mark")
        self.colour.setToolTip(plain_tip("Colour of the line and its words"))
        self.colour.clicked.connect(self.ask_colour)
        self.width_field = number(0.5, 12, 1, "px", "Width of the line")
        self.letters = number(6, 96, 0, "px", "Type size of the mark")
        self.unit, self.digits = QComboBox(), QComboBox()
        self.unit.setAccessibleName("Unit of the mark's number")
        self.digits.setAccessibleName("Decimals of the mark's number")
        for words, unit in UNITS:
            self.unit.addItem(words, unit)
        self.digits.addItem("as sure", None)
        for n in range(MOST + 1):
            self.digits.addItem(f"{1:.{n}f}".replace("1", "0", 1), n)
        self.spread = QCheckBox("with ±")
        self.every = QPushButton("For all")
        self.every.setProperty("kind", "small")
        self.every.setToolTip(plain_tip("All marks of this set get this line, type size, unit and decimals"))
        self.every.clicked.connect(self.for_all)
        self.width_field.valueChanged.connect(lambda v: self._say("Draw", width=float(v)))
        self.letters.valueChanged.connect(lambda v: self._say("Letter", letters=float(v)))
        self.unit.activated.connect(lambda _: self._say("Tell", unit=self.unit.currentData()))
        self.digits.activated.connect(lambda _: self._say("Tell", digits=self.digits.currentData()))
        self.spread.toggled.connect(lambda on: self._say("Tell", spread=on))
        grid = QGridLayout(self)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(4)
        rows = (("Line", self.width_field, self.colour), ("Letters", self.letters, self.every),
                ("Told in", self.unit, self.digits))  # fmt: skip
        for n, (words, first, second) in enumerate(rows):
            name = Words(words)
            name.setProperty("kind", "soft")
            grid.addWidget(name, n, 0)
            grid.addWidget(first, n, 1)
            grid.addWidget(second, n, 2)
        grid.addWidget(self.spread, len(rows), 1, 1, 2)
        grid.setColumnMinimumWidth(0, 50)
        grid.setColumnStretch(1, 1)

    def show_mark(self, mark: Mark, colour: str, measured: bool) -> None:
        """Show how a mark looks; what tells numbers is there only where it measures something."""
        self.mark = mark
        with quietly(self.width_field, self.letters, self.unit, self.digits, self.spread):
            self.width_field.setValue(mark.width)
            self.letters.setValue(mark.letters)
            at = self.unit.findData(mark.unit)
            if at < 0:  # one that was given elsewhere
                self.unit.addItem(mark.unit, mark.unit)
                at = self.unit.count() - 1
            self.unit.setCurrentIndex(at)
            self.digits.setCurrentIndex(max(0, self.digits.findData(mark.digits)))
            self.spread.setChecked(mark.spread)
        for widget in (self.unit, self.digits, self.spread):
            widget.setEnabled(measured)
        pixmap = QPixmap(16, 16)
        pixmap.fill(QColor(colour))
        self.colour.setIcon(QIcon(pixmap))
        self.every.setEnabled(bool(mark.id))

    def _say(self, title: str, **facts) -> None:
        if self.mark is not None:
            self.wanted.emit(title, facts)

    def ask_colour(self) -> None:
        """Ask for a colour of the mark."""
        if self.mark is not None and self.mark.id:
            chosen = QColorDialog.getColor(QColor(self.mark.colour or "#E8B68C"), self, "Colour of the mark")
            if chosen.isValid():
                self._say("Colour", colour=chosen.name().upper())
