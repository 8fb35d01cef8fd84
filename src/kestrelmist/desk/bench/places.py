"""Where a series of volumes stands along its own axes: one slider for each, in the axis' own words."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QGridLayout, QSlider, QWidget

from ..models.desk_model import Desk
from ..theme.theme import figures
from ..widgets.plain_text import Words


class PlacesPanel(QWidget):
    """Hidden for single volumes."""

    def __init__(self, desk: Desk):
        super().__init__()
        self.viewing = desk.viewing
        self.sliders: list[QSlider] = []
        self.words: list[Words] = []
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setHorizontalSpacing(8)
        desk.viewing.lead_changed.connect(self._build)
        desk.viewing.place_changed.connect(self._follow)
        self._build()

    def _build(self) -> None:
        while self._grid.count():
            widget = self._grid.takeAt(0).widget()
            widget.hide()
            widget.deleteLater()
        self.sliders, self.words = [], []
        axes = self.viewing.record.axes if self.viewing.record else ()
        for n, axis in enumerate(axes):
            name, slider, words = Words(axis.name.capitalize()), QSlider(Qt.Orientation.Horizontal), Words()
            name.setFixedWidth(56)
            slider.setRange(1, axis.size)
            slider.setPageStep(max(1, axis.size // 10))
            slider.setAccessibleName(f"{axis.name.capitalize()} of the series")
            words.setFont(figures(13))
            words.setMinimumWidth(100)
            words.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            slider.valueChanged.connect(lambda value, n=n: self.viewing.go_along(n, value - 1))
            for column, widget in enumerate((name, slider, words)):
                self._grid.addWidget(widget, n, column)
            self.sliders.append(slider)
            self.words.append(words)
        self.setVisible(bool(axes))
        self._follow()

    def _follow(self) -> None:
        if not self.viewing.record or len(self.viewing.place) != len(self.sliders):
            return
        for axis, slider, words, n in zip(self.viewing.record.axes, self.sliders, self.words, self.viewing.place):
            slider.blockSignals(True)
            slider.setValue(n + 1)
            slider.blockSignals(False)
            words.setText(
                axis.words(n) if axis.labels or not axis.values else f"{n + 1} · {axis.values[n]:.4g} {axis.unit}"
            )
