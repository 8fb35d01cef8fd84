"""The page of courses in the Drawer: a plot, and the list of the curves that are held."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PySide6.QtCore import QSignalBlocker, Qt, Signal
from PySide6.QtGui import QColor, QPainter, QPen, QPixmap
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDoubleSpinBox,
    QFileDialog,
    QHBoxLayout,
    QMenu,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from ..core.curve import Curve
from ..core.errors import Trouble
from ..core.safe_write import written_whole
from .courses import PLACES
from .curve_row import CurveRow, pen_of
from .desk_model import Desk
from .plain_text import Words, plain_tip
from .theme.theme import Theme, figures

MODES = {
    "raw": "As measured",
    "mean removed": "Mean removed",
    "z-score": "z-score",
    "scaled": "Scaled to −1 … 1",
    "percent": "Percent change",
    "spectrum": "Power spectrum",
}
WORDS = {"voxel": "Voxel", "ball": "Ball", "label": "Label in hand"}


def cosmetic(colour: str, width: float) -> QPen:
    """A pen as wide on the screen, whatever the scale of the plot."""
    pen = QPen(QColor(colour), width)
    pen.setCosmetic(True)
    return pen


class CoursesPage(QWidget):
    """Settings on top, the plot on the left, the held curves on the right."""

    mark_dragged = Signal(int)

    def __init__(self, desk: Desk):
        super().__init__()
        self.desk, self.viewing, self.courses = desk, desk.viewing, desk.courses
        self.plot = self.mark = None
        self.lines: dict[int, object] = {}
        self._rows: dict[int, CurveRow] = {}
        self._importing = False
        self._room = QHBoxLayout()
        self._room.setSpacing(8)
        self.said = Words()
        self.said.setProperty("kind", "soft")
        self.said.setWordWrap(True)
        self._list = QVBoxLayout()
        self._list.setSpacing(2)
        inside = QWidget()
        inside.setProperty("kind", "scrolled")
        column = QVBoxLayout(inside)
        column.setContentsMargins(0, 0, 4, 0)
        column.addLayout(self._list)
        column.addWidget(self.said)
        column.addStretch(1)
        scroll = QScrollArea(widgetResizable=True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        scroll.setWidget(inside)
        scroll.setFixedWidth(236)
        self._room.addStretch(1)
        self._room.addWidget(scroll)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(5)
        whole.addLayout(self._settings())
        whole.addLayout(self._room, 1)
        self.courses.changed.connect(self.refresh)
        self.viewing.place_changed.connect(self._move_mark)

    def _settings(self) -> QHBoxLayout:
        self.place, self.ball, self.mode = QComboBox(), QDoubleSpinBox(), QComboBox()
        self.volumes, self.hold = QCheckBox("Volumes"), QPushButton("Hold this")
        self.correlate, self.save = QPushButton("Correlate…"), QPushButton("Save…")
        for name in PLACES:
            self.place.addItem(WORDS[name], name)
        for name, words in MODES.items():
            self.mode.addItem(words, name)
        self.ball.setRange(0.001, 1000)
        self.ball.setValue(self.courses.ball)
        self.ball.setSuffix(" mm")
        self.ball.setFont(figures(13))
        self.ball.setAccessibleName("Diameter of the ball")
        self.place.setAccessibleName("Place whose course is followed")
        self.mode.setAccessibleName("How courses are drawn")
        self.volumes.setToolTip("Against the number of the volume instead of the time")
        self.hold.setToolTip(plain_tip("Keep the course of this place as a curve of the study (K)"))
        self.place.activated.connect(lambda _: self._set_place())
        self.ball.valueChanged.connect(lambda _: self._set_place())
        self.mode.activated.connect(lambda _: self.courses.set_mode(self.mode.currentData()))
        self.volumes.toggled.connect(self.courses.set_in_volumes)
        self.hold.clicked.connect(lambda _: self.courses.hold())
        self.correlate.clicked.connect(lambda: self._menu(self.correlate, self.correlate_menu()))
        self.save.clicked.connect(lambda: self._menu(self.save, self.save_menu()))
        row = QHBoxLayout()
        row.setSpacing(6)
        for button in (self.hold, self.correlate, self.save):
            button.setProperty("kind", "small")
        self.unit = QComboBox()
        self.unit.setAccessibleName("Unit of the courses that are drawn")
        self.unit.activated.connect(lambda _: self.refresh())
        self.unit.hide()
        for widget in (self.place, self.ball, self.mode, self.unit, self.volumes):
            row.addWidget(widget)
        row.addStretch(1)
        for button in (self.hold, self.correlate, self.save):
            row.addWidget(button)
        return row

    # being looked at

    def showEvent(self, event) -> None:
        self.courses.watch(True)
        if self.plot is None and not self._importing:
            self._importing = True  # the library takes half a second: beside the window
            self.desk.session.work.start("Courses", _load_library, lambda _: self._make(), lane="preview", loud=False)

    def hideEvent(self, event) -> None:
        self.courses.watch(False)

    def _make(self) -> None:
        import pyqtgraph

        self.plot = pyqtgraph.PlotWidget()
        self.plot.setAccessibleName("Courses through time")
        self.plot.setMenuEnabled(False)
        self.plot.setMinimumWidth(200)
        self.plot.showGrid(y=True, alpha=0.25)
        self.mark = pyqtgraph.InfiniteLine(movable=True)
        self.mark.sigPositionChanged.connect(self._mark_moved)
        self.plot.addItem(self.mark)
        self._room.insertWidget(0, self.plot, 1)
        self._room.setStretch(1, 0)
        self.dress()

    def dress(self) -> None:
        """Put on the colours of the theme in force."""
        if self.plot is not None and self.mark is not None:
            t = Theme.tokens
            self.plot.setBackground(t.field)
            for side in ("left", "bottom"):
                axis = self.plot.getAxis(side)
                axis.setPen(QPen(QColor(t.hairline), 1))
                axis.setTextPen(QPen(QColor(t.soft), 1))
                axis.setTickFont(figures(12))
                axis.enableAutoSIPrefix(False)
            self.mark.setPen(cosmetic(t.amber, 2))
            self.mark.setHoverPen(cosmetic(t.rust, 3))
        self.refresh()

    def _set_place(self) -> None:
        self.ball.setVisible(self.place.currentData() == "ball")
        self.courses.set_place(self.place.currentData(), self.ball.value())

    # drawing

    def refresh(self) -> None:
        courses = self.courses
        for box, value in ((self.place, courses.place), (self.mode, courses.mode)):
            box.setCurrentIndex(box.findData(value))
        with QSignalBlocker(self.ball), QSignalBlocker(self.volumes):
            self.ball.setVisible(courses.place == "ball")
            self.ball.setValue(courses.ball)
            self.volumes.setChecked(courses.in_volumes)
        self._list_curves()
        if self.plot is None:
            return
        wanted, said, units, heads = {}, courses.trouble, set(), set()
        for key, curve in courses.shown():
            try:
                wanted[key] = courses.drawn(curve)
            except Trouble as trouble:
                said = said or str(trouble)
        self.said.setText(said)
        wanted = self._of_one_unit(wanted)
        for key in [key for key in self.lines if key not in wanted]:
            self.plot.removeItem(self.lines.pop(key))
        for key, curve in wanted.items():
            if key not in self.lines:
                self.lines[key] = self.plot.plot([], [], connect="finite")
            self.lines[key].setData(curve.places(), curve.values, connect="finite")
            self.lines[key].setPen(pen_of(curve))
            units.add(curve.unit)
            heads.add(curve.along_unit)
        spectrum = courses.mode == "spectrum"
        along = heads.pop() if len(heads) == 1 else ""
        self.plot.setLabel("bottom", "Frequency" if spectrum else "Time" if along else "Volume", units=along or None)
        self.plot.setLabel("left", MODES[courses.mode], units=units.pop() if len(units) == 1 else None)
        self.mark.setVisible(not spectrum and bool(self.viewing.place))
        self._move_mark()

    def _of_one_unit(self, wanted: dict[int, Curve]) -> dict[int, Curve]:
        """Curves of one unit, which is chosen when there are several: a shift in mm and a turn in rad have no axis in
        common."""
        units = list(dict.fromkeys(curve.unit for curve in wanted.values()))
        self.unit.setVisible(len(units) > 1)
        if len(units) < 2:
            return wanted
        if [self.unit.itemData(n) for n in range(self.unit.count())] != units:
            before = self.unit.currentData()
            self.unit.clear()
            for unit in units:
                self.unit.addItem(f"in {unit}" if unit else "without unit", unit)
            self.unit.setCurrentIndex(max(0, self.unit.findData(before)))
        return {key: curve for key, curve in wanted.items() if curve.unit == self.unit.currentData()}

    def _time_axis(self):
        record = self.viewing.record
        if record is None or not record.axes or not self.viewing.place:
            return None
        n = next((k for k, axis in enumerate(record.axes) if axis.name == "time"), 0)
        return n, record.axes[n]

    def _move_mark(self) -> None:
        found = self._time_axis()
        if self.mark is None or found is None:
            return
        n, axis = found
        at = self.viewing.place[n]
        self.mark.blockSignals(True)
        self.mark.setValue(axis.values[at] if axis.values and not self.courses.in_volumes else at + 1)
        self.mark.blockSignals(False)

    def _mark_moved(self) -> None:
        found = self._time_axis()
        if found is None:
            return
        n, axis = found
        value = float(self.mark.value())
        if axis.values and not self.courses.in_volumes:
            at = int(np.argmin(np.abs(np.array(axis.values) - value)))
        else:
            at = min(max(round(value) - 1, 0), axis.size - 1)
        self.viewing.go_along(n, at)

    # the list of curves

    def _list_curves(self) -> None:
        held = dict(self.courses.held())
        for key in [key for key in self._rows if key not in held]:
            row = self._rows.pop(key)
            self._list.removeWidget(row)
            row.deleteLater()
        for key, curve in held.items():
            if key not in self._rows:
                self._rows[key] = CurveRow(self.courses, key)
                self._list.addWidget(self._rows[key])
            self._rows[key].show_curve(curve, key not in self.courses.hidden)

    @property
    def rows(self) -> list[CurveRow]:
        return list(self._rows.values())

    # menus

    def _menu(self, button: QPushButton, menu: QMenu) -> None:
        menu.exec(button.mapToGlobal(button.rect().bottomLeft()))

    def correlate_menu(self) -> QMenu:
        """With what the map is made."""
        menu, courses = QMenu(self), self.courses
        menu.addAction("With this place", lambda: courses.correlate(None))
        for key, curve in courses.held():
            menu.addAction(f"With “{curve.name}”".replace("&", "&&"), lambda key=key: courses.correlate(key))
        menu.addSeparator()
        menu.addAction("With drift or other courses taken out…", self.open_form)
        return menu

    def open_form(self) -> None:
        """The whole form of the operation, on the Bench."""
        from ..core.operation import find_operation

        self.desk.parent().bench.open_operation(find_operation("correlate"))

    def save_menu(self) -> QMenu:
        menu = QMenu(self)
        menu.addAction("As CSV with times…", lambda: self.ask_and_save(True))
        menu.addAction("As CSV without times…", lambda: self.ask_and_save(False))
        menu.addAction("As picture…", self.ask_and_save_picture)
        return menu

    def ask_and_save(self, times: bool) -> None:
        start = str(Path.home() / "courses.csv")
        name, _ = QFileDialog.getSaveFileName(self, "Save the courses", start, "Table (*.csv)")
        if name:
            self.save_csv(Path(name), times)

    def save_csv(self, path: Path, times: bool = True) -> None:
        """Write what is drawn, as it is drawn."""
        path = path if path.suffix.lower() == ".csv" else path.with_name(f"{path.name}.csv")
        if self.desk.session.guarded(lambda: self.courses.as_table(times).save_csv(path) or True):
            self.desk.session.said.emit(f"Saved: {path.name}")

    def ask_and_save_picture(self) -> None:
        start = str(Path.home() / "courses.png")
        name, _ = QFileDialog.getSaveFileName(self, "Save the courses as a picture", start, "Picture (*.png *.svg)")
        if name:
            self.save_picture(Path(name))

    def save_picture(self, path: Path) -> None:
        """Write the plot as PNG, three times as fine as on the screen."""
        if self.plot is None:
            return
        path = path if path.suffix.lower() == ".png" else path.with_name(f"{path.name}.png")
        self.desk.session.guarded(lambda: self._write_picture(path))

    def _write_picture(self, path: Path) -> None:
        from PySide6.QtCore import QBuffer, QIODevice

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
        self.desk.session.said.emit(f"Saved: {path.name}")


def _load_library(progress) -> None:
    import pyqtgraph

    pyqtgraph.setConfigOptions(antialias=True)
