"""Here: what every layer says at the pointer, or at the crosshair when the pointer is elsewhere."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QApplication,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from ...core.cells import harmless
from ...core.digits import signed
from ...core.labels import LabelMap
from ...scene.pieces import decimals
from ...scene.showing import shown_unit, value_text
from ..models.desk_model import Desk
from ..theme.theme import figures
from ..widgets.plain_text import Words, plain_tip
from .rows import section

WIDE = 236
"""Pixels that name and value have together."""
TALLEST = 160
"""Pixels of the rows; more of them are scrolled."""


def label_text(labels: LabelMap, world) -> str:
    """Number and name of the label at a world position."""
    number = labels.at(world)
    label = labels.table.get(number) if number else None
    return "none" if not number else f"{number} {label.name}" if label is not None else f"{number}, no name"


class HerePanel(QWidget):
    """A row a layer, top first, and one for each label map; seen when there is more than the Readout tells."""

    def __init__(self, desk: Desk):
        super().__init__()
        self.viewing, self.layers, self._pointer = desk.viewing, desk.layers, None
        self.standard = desk.standard
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        self.pin, self.copy = QPushButton("Pin"), QPushButton("Copy")
        for button in (self.pin, self.copy):
            button.setProperty("kind", "small")
        self.pin.setCheckable(True)
        self.pin.setToolTip("Tell what is at the crosshair, wherever the pointer is")
        self.copy.setToolTip("Put these lines on the clipboard")
        head = QHBoxLayout()
        head.addWidget(section("Here"), 1)
        head.addWidget(self.pin)
        head.addWidget(self.copy)
        column.addLayout(head)
        held = QWidget()
        held.setProperty("kind", "scrolled")
        self._grid = QGridLayout(held)
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setVerticalSpacing(2)
        self._area = QScrollArea(widgetResizable=True)
        self._area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._area.setFrameShape(QFrame.Shape.NoFrame)
        self._area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self._area.setWidget(held)
        column.addWidget(self._area)
        self._names: list[Words] = []
        self._values: list[Words] = []
        self.pin.toggled.connect(lambda _: self.refresh())
        self.copy.clicked.connect(self.put_on_clipboard)
        viewing = self.viewing
        for signal in (
            viewing.crosshair_moved,
            viewing.looks_changed,
            viewing.lead_ready,
            viewing.maps.chosen,
            viewing.maps.changed,
            desk.layers.changed,
            desk.standard.changed,
        ):
            signal.connect(self.refresh)
        self.refresh()

    @property
    def told(self) -> list[tuple[str, str]]:
        """Whole name and value of each layer, of those that are shown."""
        return [
            (n.accessibleName(), v.accessibleName()) for n, v in zip(self._names, self._values) if n.isVisibleTo(self)
        ]

    @property
    def world(self):
        """The place that is told of."""
        return self.viewing.crosshair if self._pointer is None or self.pin.isChecked() else self._pointer

    def point(self, world, _sight=None) -> None:
        """Follow the pointer (None: it has left the panes)."""
        self._pointer = world
        if not self.pin.isChecked():
            self.refresh()

    def lines(self) -> list[tuple[str, str]]:
        """What there is to tell, by name."""
        if not self.viewing.ready:
            return []
        world, rows, found = self.world, self.layers.rows, []
        for row in rows:
            image = self.layers.image(row.record.id)
            found.append((row.record.name, "…" if image is None else value_text(image, world)))
        maps = self.layers.label_maps()
        maps = maps if len(rows) > 1 or len(maps) > 1 else []
        found += [(name, label_text(labels, world)) for name, labels in maps]
        if len(rows) > 1 and (chosen := next((r for r in rows if r.record.id == self.layers.chosen), None)) is not None:
            image = self.layers.image(chosen.record.id)
            voxel = chosen.record.grid.nearest_voxel(world) if image is None else image.voxel_at(world)
            if not chosen.leads:
                place = "outside" if voxel is None else " ".join(map(str, voxel))
                found.append((f"Voxel in {chosen.record.name}", place))
        found += self.standard.lines(world)
        return found if len(found) > 1 else []

    def refresh(self) -> None:
        lines = self.lines()
        self.setVisible(bool(lines))
        while len(self._names) < len(lines):
            name, value = Words(), Words()
            value.setFont(figures(13))
            value.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
            self._grid.addWidget(name, len(self._names), 0)
            self._grid.addWidget(value, len(self._values), 1)
            self._names.append(name)
            self._values.append(value)
        metrics = self.fontMetrics()
        room = WIDE - max((min(metrics.horizontalAdvance(words), 128) for words, _ in lines), default=0)
        for n, (name, value) in enumerate(zip(self._names, self._values)):
            for label in (name, value):
                label.setVisible(n < len(lines))
            if n < len(lines):
                words, text = lines[n]
                short = name.fontMetrics().elidedText(words, Qt.TextElideMode.ElideRight, 128)
                name.setText(short)
                name.setAccessibleName(words)
                name.setToolTip(plain_tip(words) if short != words else "")
                seen = value.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, room)
                value.setText(seen)
                value.setAccessibleName(text)
                value.setToolTip(plain_tip(text) if seen != text else "")
        self._area.setFixedHeight(min(self._grid.sizeHint().height(), TALLEST))

    def put_on_clipboard(self) -> None:
        """The place and the lines, with tabs between name and value."""
        record = self.viewing.record
        if record is None:
            return
        unit, factor = shown_unit(record.grid)
        place = " ".join(signed(v * factor, decimals(record.grid)).strip() for v in self.world)
        lines = [("World", f"{place} {unit}"), *self.lines()]
        QApplication.clipboard().setText("\n".join(f"{harmless(name)}\t{value}" for name, value in lines))
