"""The page of courses in the Drawer: a plot, and the list of the curves that are held."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PySide6.QtCore import QSignalBlocker, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFileDialog,
    QHBoxLayout,
    QMenu,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from ...core.curve import Curve
from ...core.errors import Trouble
from ..models.courses import PLACES
from ..models.desk_model import Desk
from ..widgets.folding_row import FoldingRow
from ..widgets.number_field import number
from ..widgets.plain_text import plain_tip
from .curve_list import CurveList
from .curve_plot import CurvePlot
from .curve_row import CurveRow

MODES = {
    "raw": "As measured",
    "mean removed": "Mean removed",
    "z-score": "z-score",
    "scaled": "Scaled to −1 … 1",
    "percent": "Percent change",
    "spectrum": "Power spectrum",
}
WORDS = {"voxel": "Voxel", "ball": "Ball", "label": "Label in hand"}


class CoursesPage(QWidget):
    """Settings on top, the plot on the left, the held curves on the right."""

    mark_dragged = Signal(int)

    def __init__(self, desk: Desk):
        super().__init__()
        self.desk, self.viewing, self.courses = desk, desk.viewing, desk.courses
        self.plot = CurvePlot(desk.session, "Courses through time")
        self.lines = self.plot.lines
        room = QHBoxLayout()
        room.setSpacing(8)
        self.list = CurveList(self.courses)
        self.said = self.list.said
        room.addWidget(self.plot, 1)
        room.addWidget(self.list)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(5)
        whole.addWidget(self._settings())
        whole.addLayout(room, 1)
        self.plot.made.connect(self._made)
        self.courses.changed.connect(self.refresh)
        self.viewing.place_changed.connect(lambda: self._move_mark(self.courses.mode != "spectrum"))

    def _settings(self) -> FoldingRow:
        self.place, self.ball, self.mode = QComboBox(), number(1e-9, 1e6, 2, "mm", "Diameter of the ball"), QComboBox()
        self.volumes, self.hold = QCheckBox("Volumes"), QPushButton("Hold this")
        self.correlate, self.save = QPushButton("Correlate…"), QPushButton("Save…")
        for name in PLACES:
            self.place.addItem(WORDS[name], name)
        for name, words in MODES.items():
            self.mode.addItem(words, name)
        self.ball.setValue(self.courses.ball)
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
        row = FoldingRow()
        for button in (self.hold, self.correlate, self.save):
            button.setProperty("kind", "small")
        self.unit = QComboBox()
        self.unit.setAccessibleName("Unit of the courses that are drawn")
        self.unit.activated.connect(lambda _: self.refresh())
        self.unit.hide()
        for widget in (self.place, self.ball, self.mode, self.unit, self.volumes):
            row.first.addWidget(widget)
        row.first.addStretch(1)
        row.second.addStretch(1)
        for button in (self.hold, self.correlate, self.save):
            row.second.addWidget(button)
        return row

    # being looked at

    def showEvent(self, event) -> None:
        self.courses.watch(True)

    def hideEvent(self, event) -> None:
        self.courses.watch(False)

    @property
    def mark(self):
        """The line at the volume that is shown; None until the plot is there."""
        return self.plot.marks[0] if self.plot.marks else None

    def _made(self) -> None:
        self.mark.sigPositionChanged.connect(self._mark_moved)
        self.refresh()

    def dress(self) -> None:
        """Put on the colours of the theme in force."""
        self.plot.dress()
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
        self.list.show_curves(dict(courses.held()), courses.hidden)
        if self.mark is None:
            return
        wanted, said, units, heads = {}, courses.trouble, set(), set()
        for key, curve in courses.shown():
            try:
                wanted[key] = courses.drawn(curve)
            except Trouble as trouble:
                said = said or str(trouble)
        self.said.setText(said)
        wanted = self._of_one_unit(wanted)
        for curve in wanted.values():
            units.add(curve.unit)
            heads.add(curve.along_unit)
        spectrum = courses.mode == "spectrum"
        along = heads.pop() if len(heads) == 1 else ""
        below = "Frequency" if spectrum else "Time" if along else "Volume"
        beside = MODES[courses.mode], units.pop() if len(units) == 1 else ""
        self.plot.show_curves(wanted, (below, along), beside)
        self._move_mark(not spectrum and bool(self.viewing.place))

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

    def _move_mark(self, shown: bool = True) -> None:
        found = self._time_axis()
        if found is None or not shown:
            self.plot.set_mark(0, None)
            return
        n, axis = found
        at = self.viewing.place[n]
        self.plot.set_mark(0, axis.values[at] if axis.values and not self.courses.in_volumes else at + 1)

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

    @property
    def rows(self) -> list[CurveRow]:
        return self.list.rows

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
        from ...core.operation import find_operation

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
            self.plot.save_picture(Path(name))
