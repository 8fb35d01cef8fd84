"""A plot of curves in the Drawer. The library that draws it is loaded beside the window, when it is first seen."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QBuffer, QIODevice, Signal
from PySide6.QtGui import QColor, QPainter, QPen, QPixmap
from PySide6.QtWidgets import QHBoxLayout, QWidget

from ...core.curve import Curve
from ...core.safe_write import written_whole
from ..models.session import Session
from ..theme.theme import Theme, figures
from .curve_row import pen_of


def cosmetic(colour: str, width: float) -> QPen:
    """A pen as wide on the screen, whatever the scale of the plot."""
    pen = QPen(QColor(colour), width)
    pen.setCosmetic(True)
    return pen


class CurvePlot(QWidget):
    """Curves by their keys, and marks that are dragged along."""

    made = Signal()
    """The library is there, and the plot can be drawn."""

    def __init__(self, session: Session, name: str, marks: int = 1):
        super().__init__()
        self.session, self.name, self._count = session, name, marks
        self.plot = None
        self.marks: list = []
        self.bands: list = []
        self.lines: dict[int, object] = {}
        self._importing = False
        self._room = QHBoxLayout(self)
        self._room.setContentsMargins(0, 0, 0, 0)
        self.setMinimumWidth(200)

    def showEvent(self, event) -> None:
        if self.plot is None and not self._importing:
            self._importing = True  # the library takes half a second: beside the window
            self.session.work.start(self.name, _load_library, lambda _: self._make(), lane="preview", loud=False)

    def _make(self) -> None:
        import pyqtgraph

        self.plot = pyqtgraph.PlotWidget()
        self.plot.setAccessibleName(self.name)
        self.plot.setMenuEnabled(False)
        self.plot.showGrid(y=True, alpha=0.25)
        self.marks = [pyqtgraph.InfiniteLine(movable=True) for _ in range(self._count)]
        for mark in self.marks:
            self.plot.addItem(mark)
        self._room.addWidget(self.plot)
        self.dress()
        self.made.emit()

    def dress(self) -> None:
        """Put on the colours of the theme in force."""
        if self.plot is None:
            return
        t = Theme.tokens
        self.plot.setBackground(t.field)
        for side in ("left", "bottom"):
            axis = self.plot.getAxis(side)
            axis.setPen(QPen(QColor(t.hairline), 1))
            axis.setTextPen(QPen(QColor(t.soft), 1))
            axis.setTickFont(figures(12))
            axis.enableAutoSIPrefix(False)
        for mark in self.marks:
            mark.setPen(cosmetic(t.amber, 2))
            mark.setHoverPen(cosmetic(t.rust, 3))

    def show_curves(self, wanted: dict[int, Curve], below: tuple[str, str], beside: tuple[str, str]) -> None:
        """Draw curves, and name the axes below and beside: words and unit."""
        if self.plot is None:
            return
        for key in [key for key in self.lines if key not in wanted]:
            self.plot.removeItem(self.lines.pop(key))
        for key, curve in wanted.items():
            if key not in self.lines:
                self.lines[key] = self.plot.plot([], [], connect="finite")
            self.lines[key].setData(curve.places(), curve.values, connect="finite")
            self.lines[key].setPen(pen_of(curve))
        for side, (words, unit) in (("bottom", below), ("left", beside)):
            self.plot.setLabel(side, words, units=unit or None)

    def show_bands(self, ranges: list[tuple[float, float]], colour: str) -> None:
        """Tint ranges along the axis."""
        import pyqtgraph

        if self.plot is None:
            return
        for band in self.bands:
            self.plot.removeItem(band)
        tint = QColor(colour)
        tint.setAlpha(60)
        self.bands = []
        for ends in ranges:
            band = pyqtgraph.LinearRegionItem(ends, movable=False, brush=tint, pen=QPen(QColor(0, 0, 0, 0)))
            band.setZValue(-10)
            self.plot.addItem(band)
            self.bands.append(band)

    def set_mark(self, n: int, place: float | None) -> None:
        """Move a mark, or hide it, without saying so."""
        if n >= len(self.marks):
            return
        mark = self.marks[n]
        mark.setVisible(place is not None)
        if place is not None:
            mark.blockSignals(True)
            mark.setValue(place)
            mark.blockSignals(False)

    def save_picture(self, path: Path) -> None:
        """Write the plot as PNG, three times as fine as on the screen."""
        if self.plot is None:
            return
        path = path if path.suffix.lower() == ".png" else path.with_name(f"{path.name}.png")
        self.session.guarded(lambda: self._write_picture(path))

    def _write_picture(self, path: Path) -> None:
        assert self.plot is not None
        pixmap = QPixmap(self.plot.size() * 3)
        pixmap.setDevicePixelRatio(3)
        pixmap.fill(QColor(Theme.tokens.field))
        with QPainter(pixmap) as painter:
            self.plot.render(painter)
        buffer = QBuffer()
        buffer.open(QIODevice.OpenModeFlag.WriteOnly)
        pixmap.save(buffer, "PNG")
        with written_whole(path) as stream:
            stream.write(bytes(buffer.data().data()))
        self.session.said.emit(f"Saved: {path.name}")


def _load_library(progress) -> None:
    import pyqtgraph

    pyqtgraph.setConfigOptions(antialias=True)
