"""The heights of a map as a histogram: its peaks with their heights, and limits to drag."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF
from PySide6.QtGui import QColor, QPainter
from PySide6.QtWidgets import QLineEdit, QVBoxLayout, QWidget

from ....core.errors import Trouble
from ....core.heights import is_height_map
from ....prepare.heights.left_out import heights_counted
from ....prepare.heights.level import runs_slow
from ....scene.histogram import counts_of, peaks_of
from ...models.desk_model import Desk
from ...theme.theme import Theme, figures
from ..companion import Fields, companion
from ..histogram import Histogram
from ..rows import soft

LIMITS = ("limit_below", "limit_above")
DEPENDS = ("along", "how", "each_line")


def signed_short(value: float, spread: float) -> str:
    """A height with as many digits as tell it apart in a range."""
    digits = max(0, 2 - int(np.floor(np.log10(max(spread, 1e-12)))))
    return f"{round(value, digits) + 0.0:.{digits}f}".replace("-", "−")


class PeaksHistogram(Histogram):
    """A histogram whose highest peaks have their values written over them."""

    head = 14

    def __init__(self):
        super().__init__()
        self.setFixedHeight(86)
        self.peaks: list[float] = []

    def paintEvent(self, event) -> None:
        super().paintEvent(event)
        with QPainter(self) as painter:
            painter.setFont(figures(11))
            painter.setPen(QColor(Theme.tokens.ink))
            metrics, right = painter.fontMetrics(), -5.0
            for value in sorted(self.peaks):
                text = signed_short(value, self.counts.high - self.counts.low)
                wide = metrics.horizontalAdvance(text)
                x = min(max(self.x_of(value) - wide / 2, 0), self.width() - wide)
                if x > right + 4:
                    painter.drawText(QPointF(x, metrics.ascent()), text)
                    right = x + wide


class HeightLimits(QWidget):
    """Counts the heights beside the window; a limit dragged to its end is none."""

    def __init__(self, desk: Desk, form: Fields):
        super().__init__()
        self.desk, self.viewing, self.form = desk, desk.viewing, form
        self.histogram, self.told = PeaksHistogram(), soft("")
        self.histogram.setAccessibleName("Heights of the map, with the limits of what counts")
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(2)
        column.addWidget(self.histogram)
        column.addWidget(self.told)
        self._known: tuple | None = None
        self.histogram.changed.connect(self._dragged)
        for name in LIMITS:
            self._line(name).textChanged.connect(lambda _: self._follow())
        form.fields["each_line"].toggled.connect(lambda _: self._count())
        for name in ("along", "how"):
            form.fields[name].currentIndexChanged.connect(lambda _: self._count())
        for signal in (self.viewing.lead_ready, self.viewing.lead_changed):
            signal.connect(self._count)
        self._count()

    def _line(self, name: str) -> QLineEdit:
        line = self.form.fields[name]
        assert isinstance(line, QLineEdit)
        return line

    def _count(self) -> None:
        image = self.viewing.image if self.viewing.ready else None
        if image is None or not is_height_map(image):
            self.histogram.hide()
            self.told.setText("Limits in nm need a picture whose values are heights.")
            self.told.show()
            return
        chosen = {name: self._value(name) for name in DEPENDS}
        slow = runs_slow(chosen["how"], chosen["along"])
        known = (image, slow, chosen["each_line"])
        self.histogram.show()
        if self._is_known(known):
            return
        self._known = known

        def work(progress):
            counts = counts_of(heights_counted(image, slow, bool(chosen["each_line"])))
            return counts, peaks_of(counts)

        def show(found) -> None:
            if self._is_known(known):
                counts, self.histogram.peaks = found
                self.histogram.show_counts(counts)
                words = "nm from the median of each line" if chosen["each_line"] else "nm"
                self.told.setText(f"Heights in {words}; what is lit counts.")
                self.told.show()
                self._follow()

        self.desk.session.work.start("Heights", work, show, lane="preview", loud=False, owner=self)

    def _is_known(self, known: tuple) -> bool:
        return self._known is not None and self._known[0] is known[0] and self._known[1:] == known[1:]

    def _value(self, name: str):
        field = self.form.fields[name]
        return field.isChecked() if hasattr(field, "isChecked") else field.currentData()

    def _follow(self) -> None:
        """The limits were typed, or other heights are counted."""
        counts, ends = self.histogram.counts, []
        for name, end in zip(LIMITS, (counts.low, counts.high)):
            try:
                ends.append(float(self._line(name).text() or end))
            except (ValueError, Trouble):
                ends.append(end)
        self.histogram.show_range(ends[0], ends[1])

    def _dragged(self, low: float, high: float) -> None:
        counts = self.histogram.counts
        edge = 0.004 * (counts.high - counts.low)
        digits = max(0, 3 - int(np.floor(np.log10(max(counts.high - counts.low, 1e-12)))))
        for name, value, none in (
            (LIMITS[0], low, low <= counts.low + edge),
            (LIMITS[1], high, high >= counts.high - edge),
        ):
            line = self._line(name)
            line.blockSignals(True)
            line.setText("" if none else f"{value:.{digits}f}")
            line.blockSignals(False)


@companion("level")
def height_limits(desk: Desk, form: Fields) -> QWidget:
    return HeightLimits(desk, form)
