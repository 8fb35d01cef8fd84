"""The labels of the lead image: colour, number, name, volume, eye and lock."""

from __future__ import annotations

from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QColor, QPainter, QPixmap
from PySide6.QtWidgets import (
    QColorDialog,
    QHBoxLayout,
    QLineEdit,
    QMenu,
    QPushButton,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from ....core.errors import Trouble
from ....core.labels import Label
from ....core.quantity import short_size
from ...models.desk_model import Desk
from ...shelf.column import Column, Row
from ...theme.theme import Theme, figures, icon
from ...widgets.plain_text import Elided, Words, plain_tip
from ..page import GROUPS, BenchContext, Group

TALL, GAP = 28, 1
"""Pixels of a row, and between two."""
MOST = 9
"""Rows that are seen at once, so that the tools below stay within reach."""


def swatch(colour: str, size: int = 14) -> QPixmap:
    pixmap = QPixmap(size * 2, size * 2)
    pixmap.fill(Qt.GlobalColor.transparent)
    with QPainter(pixmap) as painter:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(colour))
        painter.drawRoundedRect(0, 0, size * 2, size * 2, 6, 6)
    pixmap.setDevicePixelRatio(2)
    return pixmap


class LabelRow(QWidget):
    """One label; a click chooses it, a double click renames it."""

    def __init__(self, desk: Desk, number: int):
        super().__init__()
        self.setObjectName("row")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.desk, self.viewing, self.hand = desk, desk.viewing, desk.hand
        self.number = number
        self._shown: tuple = ()
        """What the row was drawn from last: with hundreds of them, drawing all anew is felt."""
        self.setFixedHeight(TALL)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.colour, self.figure, self.name, self.volume = Words(), Words(), Elided(), Words()
        self.figure.setFont(figures(13))
        self.volume.setFont(figures(13))
        self.eye, self.lock = QToolButton(), QToolButton()
        line = QHBoxLayout(self)
        line.setContentsMargins(6, 0, 2, 0)
        line.setSpacing(6)
        for widget in (self.colour, self.figure):
            line.addWidget(widget)
        line.addWidget(self.name, 1)
        line.addWidget(self.volume)
        for button in (self.eye, self.lock):
            button.setFixedSize(24, 24)
            button.setIconSize(QSize(15, 15))
            line.addWidget(button)
        line.setSpacing(5)
        self.eye.clicked.connect(lambda: self._change(hidden=not self.label.hidden))
        self.lock.clicked.connect(lambda: self._change(locked=not self.label.locked))
        self.refresh()

    @property
    def label(self) -> Label:
        return self.viewing.maps.labels.table[self.number]

    def refresh(self) -> None:
        label, labels = self.label, self.viewing.maps.labels
        chosen = self.hand.label_number == self.number
        shown = (label, int(labels.counts[label.number]), chosen, labels.space, Theme.tokens)
        if shown == self._shown:
            return
        self._shown = shown
        self.colour.setPixmap(swatch(label.colour))
        self.figure.setText(str(label.number))
        self.name.setText(label.name)
        self.name.setToolTip(plain_tip(f"{label.name}: double click to rename"))
        _, cell, unit = labels.space.extent
        self.volume.setText(short_size(float(labels.counts[label.number]) * cell, unit))
        self.eye.setIcon(icon("eye-off" if label.hidden else "eye", 15, Theme.tokens.soft))
        self.lock.setIcon(
            icon("lock" if label.locked else "lock-open", 15, Theme.tokens.rust if label.locked else Theme.tokens.soft)
        )
        of_eye = f"{'Show' if label.hidden else 'Hide'} {label.name}"
        of_lock = f"Unlock {label.name}" if label.locked else f"Lock {label.name}: no tool can change it then"
        for button, told in ((self.eye, of_eye), (self.lock, of_lock)):
            button.setToolTip(plain_tip(told))
            button.setAccessibleName(told)
        if self.property("chosen") != (told := str(chosen).lower()):
            self.setProperty("chosen", told)
            self.style().polish(self)

    def _change(self, **changes) -> None:
        self.desk.run_now("change-label", {"label": self.label.name, **changes})

    def mousePressEvent(self, event) -> None:
        self.hand.choose_label(self.number)

    def mouseDoubleClickEvent(self, event) -> None:
        self.rename()

    def keyPressEvent(self, event) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Space):
            self.hand.choose_label(self.number)
        elif event.key() == Qt.Key.Key_F2:
            self.rename()
        else:
            super().keyPressEvent(event)

    def rename(self) -> None:
        """Edit the name in place."""
        field = QLineEdit(self.label.name, self)
        field.setGeometry(self.name.geometry().adjusted(-4, 0, 4, 0))
        field.selectAll()
        field.show()
        field.setFocus()

        def done():
            field.blockSignals(True)
            text = field.text().strip()
            field.deleteLater()
            if text and text != self.label.name:
                self._change(name=text)

        field.editingFinished.connect(done)

    def contextMenuEvent(self, event) -> None:
        menu = QMenu(self)
        menu.addAction("Rename", self.rename)
        menu.addAction("Colour…", self._recolour)
        only = None if self.viewing.maps.look.only else self.number
        menu.addAction("Show only this one", lambda: self.viewing.maps.set_look(only=only))
        menu.addAction("Delete", lambda: self.desk.run("delete-label", {"label": self.label.name}))
        menu.exec(event.globalPos())

    def _recolour(self) -> None:
        colour = QColorDialog.getColor(QColor(self.label.colour), self, f"Colour of {self.label.name}")
        if colour.isValid():
            self._change(colour=colour.name().upper())


class LabelList(QWidget):
    """All rows, and a field to make a new label."""

    def __init__(self, context: BenchContext):
        super().__init__()
        self.desk, self._numbers, self._dressed = context.desk, [], Theme.tokens
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(0, 0, 0, 0)
        self.column.setSpacing(1)
        self.search = QLineEdit()
        self.search.setPlaceholderText("Find a label: name or number")
        self.search.setAccessibleName("Find a label")
        self.search.setClearButtonEnabled(True)
        self.search.textChanged.connect(lambda _: self.refresh())
        self.search.hide()
        self.column.addWidget(self.search)
        self.list = Column(GAP)
        self.column.addWidget(self.list)
        self.new = QLineEdit()
        self.new.setPlaceholderText("New label: type its name")
        self.new.setAccessibleName("Name of a new label")
        self.add = QPushButton("Add")
        self.add.setProperty("kind", "small")
        line = QHBoxLayout()
        line.setContentsMargins(0, 4, 0, 0)
        line.addWidget(self.new, 1)
        line.addWidget(self.add)
        self.column.addLayout(line)
        self.new.returnPressed.connect(self.make)
        self.add.clicked.connect(self.make)
        viewing = self.desk.viewing
        for signal in (
            viewing.maps.changed,
            viewing.lead_changed,
            viewing.maps.chosen,
            self.desk.hand.label_chosen,
        ):
            signal.connect(self.refresh)
        self.desk.hand.label_chosen.connect(self._bring_into_sight)
        self.refresh()

    def dress(self) -> None:
        self.refresh()

    def make(self) -> None:
        """Add a label of the name in the field."""
        if not self.desk.viewing.ready:
            self.desk.session.trouble.emit(str(Trouble("There is no image to label", "gather one first")))
            return
        name = self.new.text()
        if self.desk.run_now("add-label", {"label": name}):
            self.new.clear()

    @property
    def rows(self) -> dict[int, LabelRow]:
        """By number, from above: those in sight or near it."""
        return self.list.widgets

    def refresh(self) -> None:
        labels = self.desk.viewing.maps.labels
        numbers = [label.number for label in labels.table] if labels is not None else []
        self.search.setVisible(len(numbers) > MOST)
        wanted = self.search.text().strip().casefold() if len(numbers) > MOST else ""
        if wanted and labels is not None:
            numbers = [n for n in numbers if wanted in labels.table[n].name.casefold() or wanted == str(n)]
        if numbers != self._numbers or self._dressed is not Theme.tokens:
            self.list.fill([Row(n, n, TALL, self._row) for n in numbers], anew=self._dressed is not Theme.tokens)
            self.list.setFixedHeight(min(self.list.tall, MOST * (TALL + GAP)))
            self._numbers, self._dressed = numbers, Theme.tokens
            self._bring_into_sight()
        for row in self.rows.values():
            row.refresh()

    def _row(self, number: int) -> LabelRow:
        return LabelRow(self.desk, number)

    def _bring_into_sight(self) -> None:
        self.list.bring_into_sight(self.desk.hand.label_number, margin=GAP)


GROUPS.add("labels", Group("labels", "Outline", LabelList, 20))
