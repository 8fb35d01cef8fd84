"""The page of sections in the Drawer: the profile with two cursors, what they tell, and the sections that are kept."""

from __future__ import annotations

import math
from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import QSignalBlocker, Qt
from PySide6.QtWidgets import (
    QFileDialog,
    QHBoxLayout,
    QMenu,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from ...core.curve import Curve
from ...core.digits import rounded
from ...core.errors import Trouble
from ...core.quantity import Quantity, pretty_unit, readable
from ...measure.trace_noise import TOO_SHORT
from ...scene.showing import shown_unit
from ..models.desk_model import Desk
from ..theme.theme import Theme, figures
from ..widgets.folding_row import FoldingRow
from ..widgets.number_field import NumberField, number
from ..widgets.plain_text import Words, plain_tip
from .calibration import CalibrationButton
from .curve_list import WIDTH, CurveList
from .curve_plot import CurvePlot
from .curve_row import CurveRow


def _told(value: float, unsure: float | None, unit: str, factor: float = 1.0) -> str:
    """A number with its unit and within what the true one lies 95 times of 100, where that is known."""
    if not math.isfinite(value):
        return "no value"
    if unsure is not None and math.isfinite(unsure) and unsure > 0:
        return str(Quantity(factor * value, unit, factor * unsure)).replace(" °", "°").replace("-", "−")
    rise = factor * value
    return f"{rounded(rise, 0.0, abs(rise) or 1.0):.5g} {unit}".rstrip().replace(" °", "°").replace("-", "−")


class SectionsPage(QWidget):
    """Settings on top, the plot on the left, what is read and the kept sections on the right."""

    def __init__(self, desk: Desk):
        super().__init__()
        self.desk, self.viewing, self.sections = desk, desk.viewing, desk.sections
        self.plot = CurvePlot(desk.session, "Sections", marks=2)
        self.reading = Words()
        self.reading.setFont(figures(12))
        self.reading.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.reading.setAccessibleName("What the cursors tell")
        self.list = CurveList(self.sections)
        self.said = self.list.said
        right = QVBoxLayout()
        right.setSpacing(4)
        right.addWidget(self.reading)
        right.addWidget(self.list, 1)
        side = QWidget()
        side.setLayout(right)
        right.setContentsMargins(0, 0, 0, 0)
        side.setFixedWidth(WIDTH + 20)  # a slope with its uncertainty and unit is long
        room = QHBoxLayout()
        room.setSpacing(8)
        room.addWidget(self.plot, 1)
        room.addWidget(side)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(5)
        whole.addWidget(self._settings())
        whole.addLayout(room, 1)
        self.plot.made.connect(self._made)
        self.sections.changed.connect(self.refresh)
        desk.hand.tool_changed.connect(self._follow_tool)

    def _settings(self) -> FoldingRow:
        self.draw, self.width = QPushButton("Draw"), self._spin("Width of the section")
        self.cursors = [self._spin("First cursor"), self._spin("Second cursor")]
        self.sure = CalibrationButton(self.sections)
        self.keep, self.step = QPushButton("Keep"), QPushButton("Step height")
        self.rough, self.save = QPushButton("Roughness"), QPushButton("Save…")
        self.draw.setCheckable(True)
        self.draw.setToolTip(plain_tip("Drag a line over the picture; Shift, held while you drag, keeps it straight"))
        self.keep.setToolTip(plain_tip("Keep the section of this line in the study"))
        self.step.setToolTip(plain_tip("Fit both levels by parallel lines, as ISO 5436-1 has it"))
        self.rough.setToolTip(plain_tip("Ra, Rq and Rz of the line, Sa and Sq of the map"))
        self.draw.toggled.connect(lambda on: self.desk.hand.set_tool("section" if on else "point"))
        self.width.valueChanged.connect(lambda v: self.sections.set_width(v / self._factor))
        for n, spin in enumerate(self.cursors):
            spin.valueChanged.connect(lambda v, n=n: self.sections.set_cursor(n, v / self._factor))
        self.keep.clicked.connect(lambda _: self.sections.keep())
        self.step.clicked.connect(lambda _: self.sections.step_height(self.sections.chosen))
        self.rough.clicked.connect(lambda _: self.sections.roughness(self.sections.chosen))
        self.save.clicked.connect(lambda: self.save_menu().exec(self.save.mapToGlobal(self.save.rect().bottomLeft())))
        row = FoldingRow()
        for button in (self.draw, self.keep, self.step, self.rough, self.save):
            button.setProperty("kind", "small")
        row.first.addWidget(self.draw)
        for words, spins in (("Width", [self.width]), ("Cursors", self.cursors)):
            label = Words(words)
            label.setProperty("kind", "soft")
            row.first.addWidget(label)
            for spin in spins:
                row.first.addWidget(spin)
        row.first.addWidget(self.sure)
        row.first.addStretch(1)
        row.second.addStretch(1)
        for button in (self.keep, self.step, self.rough, self.save):
            row.second.addWidget(button)
        return row

    def _spin(self, name: str) -> NumberField:
        spin = number(0, 1e6, 3, "mm", name, follows=True)
        spin.setFixedWidth(96)
        return spin

    @property
    def _unit(self) -> tuple[str, float]:
        """The unit that lengths are shown in, and how many of it the world's has."""
        record = self.viewing.record
        return shown_unit(record.grid) if record is not None else ("mm", 1)

    @property
    def _factor(self) -> float:
        return self._unit[1]

    # being looked at

    def showEvent(self, event) -> None:
        self.sections.watched = True
        self.refresh()
        self.sections.changed.emit()

    def hideEvent(self, event) -> None:
        self.sections.watched = False
        if self.desk.hand.tool == "section":
            self.desk.hand.set_tool("point")
        self.sections.changed.emit()

    def _made(self) -> None:
        for n, mark in enumerate(self.plot.marks):
            mark.sigPositionChanged.connect(lambda m, n=n: self.sections.set_cursor(n, m.value() / self._factor))
        self.refresh()

    def dress(self) -> None:
        """Put on the colours of the theme in force."""
        self.plot.dress()
        self.refresh()

    def _follow_tool(self) -> None:
        with QSignalBlocker(self.draw):
            self.draw.setChecked(self.desk.hand.tool == "section")

    # drawing

    def refresh(self) -> None:
        sections, (unit, factor) = self.sections, self._unit
        self._follow_tool()
        with QSignalBlocker(self.width):
            self.width.setSuffix(f" {unit}")
            self.width.setValue(sections.width * factor)
        for n, spin in enumerate(self.cursors):
            with QSignalBlocker(spin):
                spin.setSuffix(f" {unit}")
                spin.setEnabled(sections.cursors is not None)
                spin.setValue(sections.cursors[n] * factor if sections.cursors is not None else 0)
        self.list.show_curves(dict(sections.held()), sections.hidden)
        there = sections.line is not None
        self.keep.setEnabled(there)
        for button in (self.step, self.rough):
            button.setEnabled(there or bool(sections.chosen))
        self.said.setText(sections.trouble or ("" if there or self.rows else "Press Draw and drag a line over it."))
        self.said.setVisible(bool(self.said.text()))
        self.reading.setText("\n".join(f"{words:<9}{value}" for words, value in self.told()))
        self.reading.setVisible(bool(self.reading.text()))
        unsure = "noise" in dict(self.told())
        tip = "±: the true value lies within it 95 times of 100"
        self.reading.setToolTip(plain_tip(f"{tip}; but the line is {TOO_SHORT}" if unsure else tip))
        if not self.isVisible() or not self.plot.marks:
            return
        drawn = self._drawn(factor)
        value = readable(next((c.unit for c in drawn.values()), ""))[0]
        self.plot.show_curves(drawn, ("Along the line", unit), ("Value", pretty_unit(value)))
        step = sections.step
        self.plot.show_bands(
            [tuple(factor * v for v in ends) for ends in step.counted] if step is not None else [], Theme.tokens.moss
        )
        for n in range(2):
            place = None if sections.cursors is None or sections.read is None else sections.cursors[n] * factor
            self.plot.set_mark(n, place)

    def _drawn(self, factor: float) -> dict[int, Curve]:
        """Sections in the units of the one that is read, with lengths as they are shown."""
        read, shown = self.sections.read, self.sections.shown()
        like = read if read is not None else shown[-1][1] if shown else None
        found = {}
        for key, curve in shown:
            if like is not None and (curve.unit, curve.along_unit) == (like.unit, like.along_unit):
                wide = 2.4 if key == self.sections.chosen else curve.width
                values = curve.values * readable(curve.unit)[1]
                found[key] = replace(curve, values=values, along=curve.places() * factor, width=wide)
        return found

    def told(self) -> list[tuple[str, str]]:
        """What the cursors tell, in words and numbers with units."""
        found, read, (unit, factor) = self.sections.reading, self.sections.read, self._unit
        if found is None or read is None:
            return []
        plain, times = readable(read.unit)
        of, value = found.unsure or found, pretty_unit(plain)
        lines = [("along", _told(found.along, of.along, unit, factor))]
        if found.straight is not None and math.isfinite(found.straight):
            lines.append(("straight", _told(found.straight, of.straight, unit, factor)))
        lines.append(
            ("height" if found.angle is not None else "change", _told(found.difference, of.difference, value, times))
        )
        if math.isfinite(found.slope):
            lines.append(("slope", _told(found.slope, of.slope, f"{value}/{unit}", times / factor)))
        if found.angle is not None and math.isfinite(found.angle):
            lines.append(("angle", _told(found.angle, of.angle, "°")))
        step = self.sections.step
        if step is not None:
            lines.append(("step", _told(step.height, step.expanded(self.sections.scales.heights), value, times)))
        if found.too_short or (step is not None and step.too_short):
            lines.append(("noise", TOO_SHORT.partition(" how ")[0]))  # all of it is told by the pointer
        return lines

    @property
    def rows(self) -> list[CurveRow]:
        return self.list.rows

    # leaving the program

    def save_menu(self) -> QMenu:
        menu = QMenu(self)
        menu.addAction("Sections as CSV…", self.ask_and_save)
        menu.addAction("What the cursors tell of each, as a table", self.sections.read_all)
        menu.addAction("As picture…", self.ask_and_save_picture)
        return menu

    def ask_and_save(self) -> None:
        start = str(Path.home() / "sections.csv")
        name, _ = QFileDialog.getSaveFileName(self, "Save the sections", start, "Table (*.csv)")
        if name:
            self.save_csv(Path(name))

    def save_csv(self, path: Path) -> None:
        """Write the sections that are drawn, with their distances."""
        from ...formats.curve_files import curve_table

        path = path if path.suffix.lower() == ".csv" else path.with_name(f"{path.name}.csv")
        curves = [curve for _, curve in self.sections.shown()]

        def write() -> bool:
            if not curves:
                raise Trouble("There is no section to save", "drag a line over the picture first")
            curve_table(curves).save_csv(path)
            return True

        if self.desk.session.guarded(write):
            self.desk.session.said.emit(f"Saved: {path.name}")

    def ask_and_save_picture(self) -> None:
        start = str(Path.home() / "sections.png")
        name, _ = QFileDialog.getSaveFileName(self, "Save the sections as a picture", start, "Picture (*.png)")
        if name:
            self.plot.save_picture(Path(name))
