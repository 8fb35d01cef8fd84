"""The range of values that tools keep to: ready ranges, numbers, the histogram, and seen live on the image."""

from __future__ import annotations

from PySide6.QtWidgets import QCheckBox, QComboBox, QHBoxLayout, QPushButton

from ....core.digits import rounded
from ....core.quantity import pretty_unit
from ....outline.ranges import half_way_limit, ready_ranges
from ....scene.histogram import value_counts
from ....scene.showing import display_range
from ...widgets.number_field import number
from ..histogram import Histogram
from ..page import GROUPS, BenchContext, Group
from ..rows import Shaded, quietly, row, soft


class RangeGroup(Shaded):
    """Its digits follow the range of the image's own values."""

    def __init__(self, context: BenchContext):
        super().__init__()
        self.viewing, self.hand, self.session = context.desk.viewing, context.desk.hand, context.desk.session
        self.ready, self.half_way = QComboBox(), QPushButton("Half-way")
        self.ready.setAccessibleName("Ready ranges")
        self.half_way.setProperty("kind", "small")
        self.half_way.setToolTip(
            "Set the lower limit half-way between the tissues on both sides of it: the fairest boundary"
            " where voxels hold some of each"
        )
        self.half_way.clicked.connect(self.set_half_way)
        self.low, self.high = (
            number(-1e12, 1e12, 1, "", "Lowest value", follows=True),
            number(-1e12, 1e12, 1, "", "Highest value", follows=True),
        )
        self.histogram, self.live = Histogram(), QCheckBox("Show the range on the image")
        line = row("Range", self.ready, width=56)
        line.addWidget(self.half_way)
        self.column.addLayout(line)
        ends = QHBoxLayout()
        ends.setSpacing(7)
        ends.addWidget(self.low, 1)
        ends.addWidget(soft("to"))
        ends.addWidget(self.high, 1)
        self.column.addLayout(ends)
        self.column.addWidget(self.histogram)
        self.column.addSpacing(3)
        self.column.addWidget(self.live)
        self.ready.activated.connect(self._ready)
        self.low.valueChanged.connect(lambda v: self.hand.set_settings(low=v))
        self.high.valueChanged.connect(lambda v: self.hand.set_settings(high=v))
        self.histogram.changed.connect(
            lambda low, high: self.hand.set_settings(low=self._near(low), high=self._near(high))
        )
        self.live.toggled.connect(lambda on: self.hand.set_settings(show_range=on))
        self.hand.settings_changed.connect(self._follow)
        self.viewing.lead_ready.connect(self._suit)
        self._suit()

    def _near(self, value: float) -> float:
        image = self.viewing.image
        return value if image is None else rounded(value, *display_range(image.grey()))

    def _suit(self) -> None:
        """Ready ranges, digits, unit and histogram of the image that leads."""
        record, image = self.viewing.record, self.viewing.image
        if record is None or image is None or not self.viewing.ready:
            return
        image = image.grey()
        self.ready.clear()
        self.ready.addItem("Your own")
        for ready in ready_ranges(image):
            self.ready.addItem(ready.name, ready)
        for field in (self.low, self.high):
            with quietly(field):
                field.suit_values(*display_range(image), whole=image.whole_numbers and image.unit == "")
                field.setSuffix(f" {pretty_unit(record.unit)}" if record.unit else "")

        def show(counts) -> None:
            if self.viewing.leads(record.id):
                self.histogram.show_counts(counts)

        self.session.work.start("Histogram", lambda progress: value_counts(image), show, lane="preview")
        self._follow()

    def _follow(self) -> None:
        s = self.hand.settings
        with quietly(self.low, self.high, self.live):
            self.low.setValue(s.low)
            self.high.setValue(s.high)
            self.live.setChecked(s.show_range)
        self.histogram.show_range(s.low, s.high)
        fits = [
            n
            for n in range(1, self.ready.count())
            if (self._near(self.ready.itemData(n).low), self._near(self.ready.itemData(n).high)) == (s.low, s.high)
        ]
        if self.ready.count():
            self.ready.setCurrentIndex(fits[0] if fits else 0)

    def _ready(self, index: int) -> None:
        ready = self.ready.itemData(index)
        if ready:
            self.hand.set_settings(low=self._near(ready.low), high=self._near(ready.high), show_range=True)

    def set_half_way(self) -> None:
        """Put the lower limit half-way between the tissues around it."""
        if not self.viewing.ready or self.viewing.image is None:
            return
        image, low = self.viewing.image.grey(), self.hand.settings.low
        self.session.work.start(
            "Half-way limit",
            lambda progress: half_way_limit(image, low),
            lambda limit: self.hand.set_settings(low=self._near(limit), show_range=True),
            lane="preview",
        )


GROUPS.add("range", Group("range", "Outline", RangeGroup, 50, of_tool=True))
