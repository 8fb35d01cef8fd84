"""Size and shape of the brush."""

from __future__ import annotations

from PySide6.QtWidgets import QCheckBox, QComboBox

from ....core.quantity import pretty_unit
from ...widgets.number_field import number
from ..page import GROUPS, BenchContext, Group
from ..rows import Shaded, quietly, row

MOST = 60
"""Labels that are listed."""


class SizeGroup(Shaded):
    """Lengths in the unit of the image's world."""

    def __init__(self, context: BenchContext):
        super().__init__()
        self.viewing, self.hand = context.desk.viewing, context.desk.hand
        self.size = number(1e-9, 1e6, 2, "mm", "Brush size", follows=True)
        self.shape = QComboBox()
        self.shape.setAccessibleName("Brush shape")
        self.shape.addItem("Ball, all planes", "ball")
        self.shape.addItem("Disc, this plane", "disc")
        self.over = QComboBox()
        self.over.setAccessibleName("Paint over")
        self.only = QCheckBox("Paint only inside the range")
        self.column.addLayout(row("Size", self.size))
        self.column.addLayout(row("Shape", self.shape))
        self.column.addLayout(row("Over", self.over))
        self.column.addWidget(self.only)
        self.size.valueChanged.connect(lambda v: self.hand.set_settings(size=v))
        self.shape.activated.connect(lambda _: self.hand.set_settings(shape=self.shape.currentData()))
        self.over.activated.connect(lambda _: self.hand.set_settings(over=self.over.currentData()))
        self.only.toggled.connect(
            lambda on: self.hand.set_settings(only_in_range=on, show_range=on or self.hand.settings.show_range)
        )
        self.hand.settings_changed.connect(self._follow)
        self.viewing.maps.changed.connect(self._fill)
        self.viewing.maps.chosen.connect(self._fill)
        self._known: tuple = ()
        self._fill()
        self.viewing.lead_ready.connect(self._suit)
        self._suit()

    def _suit(self) -> None:
        """Digits and unit of the image that leads."""
        record = self.viewing.record
        if record is None:
            return
        least = min(record.grid.spacing)
        with quietly(self.size):
            self.size.set_range(0.0, 2000 * least, least / 10)
            self.size.setSuffix(f" {pretty_unit(record.grid.unit)}")
        self._follow()

    def _fill(self) -> None:
        """The labels that may be painted over."""
        labels = self.viewing.maps.labels
        rows = () if labels is None else tuple((r.number, r.name) for r in labels.table)[:MOST]
        if rows == self._known and self.over.count():
            return
        self._known = rows
        self.over.clear()
        self.over.addItem("Everything", -1)
        self.over.addItem("Free voxels only", 0)
        for number_, name in rows:
            self.over.addItem(f"{name} only", number_)
        self._follow()

    def _follow(self) -> None:
        s = self.hand.settings
        self.over.setCurrentIndex(max(0, self.over.findData(s.over)))
        with quietly(self.size, self.only):
            self.size.setValue(s.size)
            self.only.setChecked(s.only_in_range)
        self.shape.setCurrentIndex(self.shape.findData(s.shape))


GROUPS.add("size", Group("size", "Outline", SizeGroup, 40, of_tool=True))
