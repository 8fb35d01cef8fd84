"""The range of the chosen layer: its histogram with limits to drag, ready ranges, and the range of an area."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QCheckBox, QComboBox, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from ...core.image import Image
from ...scene.histogram import SAMPLE, counts_of
from ...scene.ready_looks import range_of_share, ready_looks, share_named
from ...scene.sampling import sample_values
from ..models.desk_model import Desk
from .histogram import Histogram


class RangePanel(QWidget):
    """A histogram, and below it where the range can come from."""

    def __init__(self, desk: Desk):
        super().__init__()
        self.desk, self.viewing, self.layers = desk, desk.viewing, desk.layers
        self.histogram = Histogram()
        self.histogram.setAccessibleName("Histogram of the chosen layer with its range")
        self.log, self.in_view = QCheckBox("Log"), QCheckBox("In view")
        self.in_view.setToolTip("Count what the lead pane shows, instead of the whole volume")
        self.ready, self.area = QComboBox(), QPushButton("From area")
        self.ready.setAccessibleName("Ready ranges of the chosen layer")
        self.area.setProperty("kind", "small")
        self.area.setToolTip("Drag a box in a pane: its values make the range")
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        column.addWidget(self.histogram)
        self.below = QWidget()
        lines = QVBoxLayout(self.below)
        lines.setContentsMargins(0, 0, 0, 0)
        lines.setSpacing(4)
        first, second = QHBoxLayout(), QHBoxLayout()
        first.addWidget(self.log)
        first.addWidget(self.in_view)
        first.addStretch(1)
        second.addWidget(self.ready, 1)
        second.addWidget(self.area)
        lines.addLayout(second)
        lines.addLayout(first)
        column.addWidget(self.below)
        self._soon = QTimer(self, singleShot=True, interval=150)
        self._soon.timeout.connect(self._count)
        self._known: tuple | None = None
        self.histogram.changed.connect(lambda low, high: self.layers.set_look(low=low, high=high))
        for box in (self.log, self.in_view):
            box.toggled.connect(lambda _: self._anew())
        self.ready.activated.connect(self._choose)
        self.area.clicked.connect(lambda: desk.hand.set_tool("range-of-area"))
        for signal in (self.layers.changed, self.viewing.lead_ready):
            signal.connect(self._suit)
        self.viewing.looks_changed.connect(self._follow)
        self.viewing.crosshair_moved.connect(lambda: self._anew() if self.in_view.isChecked() else None)
        self._suit()

    def set_whole(self, on: bool) -> None:
        """Show all of it, or the histogram only."""
        self.below.setVisible(on)

    def _image(self) -> Image | None:
        chosen = self.layers.chosen
        image = None if chosen is None else self.layers.image(chosen)
        return image if image is not None and image.in_memory and not image.colour else None

    def _suit(self) -> None:
        image = self._image()
        self.ready.clear()
        self.ready.addItem("Ready ranges")
        for name, low, high in ready_looks(image) if image is not None else ():
            self.ready.addItem(name, (low, high))
        self._anew()
        self._follow()

    def _anew(self) -> None:
        self._known = None
        self._soon.start()

    def _count(self) -> None:
        """Count beside the window; what is counted already is not counted again."""
        image = self._image()
        if image is None or not self.isVisible():
            return
        view = self.viewing.lead_view() if self.in_view.isChecked() else None
        known = (id(image), self.log.isChecked(), view)
        if known == self._known:
            return
        self._known = known
        log = self.log.isChecked()

        def work(progress):
            values = image.sample(SAMPLE) if view is None else sample_values(view, image, False)
            return counts_of(values, log)

        def show(counts) -> None:
            if self._known == known:
                self.histogram.show_counts(counts)
                self._follow()

        self.desk.session.work.start("Histogram", work, show, lane="preview", loud=False)

    def showEvent(self, event) -> None:
        self._anew()

    def _follow(self) -> None:
        look = self.layers.look
        if look is not None:
            self.histogram.show_range(look.low, look.high)

    def _choose(self, n: int) -> None:
        name, limits, image = self.ready.itemText(n), self.ready.itemData(n), self._image()
        self.ready.setCurrentIndex(0)
        if limits is None or image is None:
            return
        share = share_named(name)
        if share is None:
            self.layers.set_look(low=limits[0], high=limits[1])
            return
        self.desk.session.work.start(
            "Range",
            lambda progress: range_of_share(np.asarray(image.sample(SAMPLE)), *share),
            lambda found: self.layers.set_look(low=found[0], high=found[1]),
            lane="preview",
            loud=False,
        )
