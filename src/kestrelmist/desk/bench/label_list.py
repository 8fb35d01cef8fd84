"""The labels of the lead image: colour, number, name, volume, eye and lock."""

from __future__ import annotations

from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QColor, QPainter, QPixmap
from PySide6.QtWidgets import QColorDialog, QHBoxLayout, QLabel, QLineEdit, QMenu, QPushButton, QSizePolicy, QToolButton, QVBoxLayout, QWidget

from ...core.errors import Trouble
from ...core.labels import Label
from ..desk_model import Desk
from ..theme.theme import Theme, figures, icon


def swatch(colour: str, size: int = 14) -> QPixmap:
    pixmap = QPixmap(size * 2, size * 2)
    pixmap.fill(Qt.GlobalColor.transparent)
    painter = QPainter(pixmap)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(QColor(colour))
    painter.drawRoundedRect(0, 0, size * 2, size * 2, 6, 6)
    painter.end()
    pixmap.setDevicePixelRatio(2)
    return pixmap


def volume_text(mm3: float) -> str:
    """A volume short enough for a row."""
    if mm3 >= 1e5:
        return f"{mm3 / 1000:.4g} cm³"
    return f"{mm3:.0f} mm³" if mm3 >= 1000 else f"{mm3:.1f} mm³" if mm3 >= 0.05 or mm3 == 0 else f"{mm3:.2g} mm³"


class LabelRow(QWidget):
    """One label; a click chooses it, a double click renames it."""

    def __init__(self, desk: Desk, label: Label):
        super().__init__()
        self.setObjectName("row")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.desk, self.number = desk, label.number
        self.setFixedHeight(28)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.colour, self.figure, self.name, self.volume = QLabel(), QLabel(), QLabel(), QLabel()
        self.figure.setFont(figures(13))
        self.volume.setFont(figures(13))
        self.name.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
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
        return self.desk.labels.table[self.number]

    def refresh(self) -> None:
        label, labels = self.label, self.desk.labels
        self.colour.setPixmap(swatch(label.colour))
        self.figure.setText(str(label.number))
        self.name.setText(label.name)
        self.name.setToolTip(f"{label.name}: double click to rename")
        self.volume.setText(volume_text(float(labels.counts[label.number]) * labels.space.voxel_volume))
        self.eye.setIcon(icon("eye-off" if label.hidden else "eye", 15, Theme.tokens.soft))
        self.lock.setIcon(icon("lock" if label.locked else "lock-open", 15, Theme.tokens.rust if label.locked else Theme.tokens.soft))
        self.eye.setToolTip(f"{'Show' if label.hidden else 'Hide'} {label.name}")
        self.lock.setToolTip(f"{'Unlock' if label.locked else 'Lock'} {label.name}" + ("" if label.locked else ": no tool can change it then"))
        self.eye.setAccessibleName(self.eye.toolTip())
        self.lock.setAccessibleName(self.lock.toolTip())
        self.setProperty("chosen", str(self.desk.label_number == self.number).lower())
        self.style().polish(self)

    def _change(self, **changes) -> None:
        try:
            self.desk.require_writable()
            self.desk.change_label(self.number, **changes)
        except Trouble as trouble:
            self.desk.trouble.emit(str(trouble))

    def mousePressEvent(self, event) -> None:
        self.desk.choose_label(self.number)

    def mouseDoubleClickEvent(self, event) -> None:
        self.rename()

    def keyPressEvent(self, event) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Space):
            self.desk.choose_label(self.number)
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
        menu.addAction("Show only this one", lambda: self.desk.set_label_look(only=None if self.desk.label_look.only else self.number))
        menu.exec(event.globalPos())

    def _recolour(self) -> None:
        colour = QColorDialog.getColor(QColor(self.label.colour), self, f"Colour of {self.label.name}")
        if colour.isValid():
            self._change(colour=colour.name().upper())


class LabelList(QWidget):
    """All rows, and a field to make a new label."""

    def __init__(self, desk: Desk):
        super().__init__()
        self.desk, self.rows = desk, {}
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(0, 0, 0, 0)
        self.column.setSpacing(1)
        self.list = QVBoxLayout()
        self.list.setSpacing(1)
        self.column.addLayout(self.list)
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
        desk.labels_changed.connect(self.refresh)
        desk.label_chosen.connect(self.refresh)
        desk.image_changed.connect(self.refresh)

    def make(self) -> None:
        """Add a label of the name in the field."""
        try:
            self.desk.require_writable()
            if not self.desk.ready:
                raise Trouble("There is no image to label", "gather one first")
            self.desk.new_label(self.new.text())
        except Trouble as trouble:
            self.desk.trouble.emit(str(trouble))
            return
        self.new.clear()

    def refresh(self) -> None:
        table = self.desk.labels.table if self.desk.labels else ()
        if [row.number for row in table] != list(self.rows):
            for row in self.rows.values():
                row.hide()
                row.deleteLater()
            self.rows = {}
            for label in table:
                self.rows[label.number] = LabelRow(self.desk, label)
                self.list.addWidget(self.rows[label.number])
        for row in self.rows.values():
            row.refresh()
