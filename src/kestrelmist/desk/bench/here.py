"""Here: the value of every layer at the pointer, or at the crosshair when the pointer is elsewhere."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QGridLayout, QVBoxLayout, QWidget

from ..desk_model import Desk
from ..plain_text import Words
from ..theme.theme import figures
from .rows import section


class HerePanel(QWidget):
    """A row a layer, top first; seen when more than one lies on the table."""

    def __init__(self, desk: Desk):
        super().__init__()
        self.viewing, self.layers, self._pointer = desk.viewing, desk.layers, None
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        column.addWidget(section("Here"))
        self._grid = QGridLayout()
        self._grid.setVerticalSpacing(2)
        column.addLayout(self._grid)
        self._names: list[Words] = []
        self._values: list[Words] = []
        for signal in (self.viewing.crosshair_moved, self.viewing.looks_changed, self.viewing.lead_ready):
            signal.connect(self.refresh)
        self.refresh()

    @property
    def told(self) -> list[tuple[str, str]]:
        """Name and value of each layer, as they are shown."""
        return [(n.text(), v.text()) for n, v in zip(self._names, self._values) if n.isVisibleTo(self)]

    def point(self, world, _sight=None) -> None:
        """Follow the pointer (None: it has left the panes)."""
        self._pointer = world
        self.refresh()

    def refresh(self) -> None:
        rows = self.layers.rows if self.viewing.ready else []
        rows = rows if len(rows) > 1 else []
        self.setVisible(bool(rows))
        while len(self._names) < len(rows):
            name, value = Words(), Words()
            value.setFont(figures(13))
            self._grid.addWidget(name, len(self._names), 0)
            self._grid.addWidget(value, len(self._values), 1)
            self._names.append(name)
            self._values.append(value)
        world = self.viewing.crosshair if self._pointer is None else self._pointer
        for n, (name, value) in enumerate(zip(self._names, self._values)):
            for label in (name, value):
                label.setVisible(n < len(rows))
            if n < len(rows):
                image = self.layers.image(rows[n].record.id)
                name.setText(name.fontMetrics().elidedText(rows[n].record.name, Qt.TextElideMode.ElideRight, 150))
                value.setText("…" if image is None else image.value_text(world))
