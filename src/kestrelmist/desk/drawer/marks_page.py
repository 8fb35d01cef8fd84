"""The page of marks in the Drawer: a row a mark; a click chooses one and goes there."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QItemSelectionModel, QModelIndex, Qt
from PySide6.QtWidgets import QCheckBox, QFileDialog, QPushButton, QTableView, QVBoxLayout, QWidget

from ...core.digits import decimals_of
from ...core.geometry.mark import Mark
from ...core.geometry.marks import Marks
from ...core.geometry.measured import is_fine, measured
from ...core.geometry.shape import shape_named
from ...core.scale import Scale
from ...core.table import Column, Table
from ...formats.saving import save_thing
from ...scene.showing import shown_unit
from ..models.desk_model import Desk
from ..widgets.folding_row import FoldingRow
from ..widgets.plain_text import Words, plain_tip
from .table_model import TableModel


class MarksPage(QWidget):
    """What can be done with marks on top, the list below."""

    def __init__(self, desk: Desk, make_view: Callable[[TableModel], QTableView]):
        super().__init__()
        self.desk, self.marks = desk, desk.marks
        self.model = TableModel()
        self.view = make_view(self.model)
        self.view.setAccessibleName("Marks")
        self.said = Words()
        self.said.setProperty("kind", "soft")
        self.shown, self.named = QCheckBox("Show"), QCheckBox("Names")
        self.delete, self.save = QPushButton("Delete"), QPushButton("Save…")
        self.delete.setToolTip(plain_tip("Take the chosen marks out; this can be undone"))
        self.save.setToolTip(plain_tip("Write the marks as GeoJSON or CSV"))
        row = FoldingRow()
        for one in (self.said, self.shown, self.named):
            row.first.addWidget(one)
        row.first.addStretch(1)
        row.second.addStretch(1)
        for button in (self.delete, self.save):
            button.setProperty("kind", "small")
            row.second.addWidget(button)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(5)
        column.addWidget(row)
        column.addWidget(self.view, 1)
        self.shown.setChecked(True)
        self.named.setChecked(True)
        self.shown.toggled.connect(self._show)
        self.named.toggled.connect(self._show)
        self.delete.clicked.connect(self.delete_chosen)
        self.save.clicked.connect(self.ask_and_save)
        self.view.clicked.connect(self._go)
        self.view.activated.connect(self._go)
        self.marks.listed.connect(self._listed)
        self.marks.changed.connect(self._follow)
        self._waiting = True
        self._made: dict[int, tuple[Mark, tuple]] = {}
        self._made_for: tuple | None = None

    def _show(self) -> None:
        self.marks.shown, self.marks.named = self.shown.isChecked(), self.named.isChecked()
        self.marks.changed.emit()

    def _listed(self) -> None:
        self._waiting = True
        if self.isVisible():
            self.fill()

    def fill(self) -> None:
        """The marks as they are now."""
        marks, record = self.marks.marks, self.desk.viewing.record
        self._waiting = False
        there = marks is not None and record is not None and len(marks) > 0
        self.delete.setEnabled(there)
        self.save.setEnabled(there)
        if marks is None or record is None:
            self.said.setText("Choose an image on the Shelf.")
            self.model.show(Table("Marks", [Column("mark")]))
            return
        several = "" if len(marks) == 1 else "s"
        self.said.setText(f"{len(marks)} mark{several} in “{marks.name}” on “{record.name}”.")
        unit, factor = shown_unit(record.grid)
        digits = decimals_of(min(record.grid.spacing) * factor) + 1
        columns = [Column("mark"), Column("name"), Column("shape"), Column("class")]
        columns += [Column(axis, unit, digits) for axis in "xyz"]
        columns += [Column("measures"), Column("note")]
        self.model.show(Table(marks.name, columns, self._rows_of(marks, (unit, factor, digits, *self.marks.sure))))
        self.view.resizeColumnsToContents()
        self._follow()

    def _rows_of(self, marks: Marks, how: tuple[str, float, int, str, float]) -> list[tuple]:
        """A row a mark; of tens of thousands most are those of before."""
        before, self._made = self._made if self._made_for == how else {}, {}
        for mark in marks:
            made = before.get(mark.id)
            self._made[mark.id] = made if made is not None and made[0] is mark else (mark, self._row(mark, *how))
        self._made_for = how
        return [row for _, row in self._made.values()]

    def _row(self, mark: Mark, unit: str, factor: float, digits: int, scale: str, placed: float) -> tuple:
        found = measured(mark, Scale.from_fact(scale) or Scale(), placed)
        said = ", ".join(f"{one.name} {one.told(mark, is_fine(placed)).words}" for one in found)
        words = shape_named(mark.shape).title.lower()
        note = mark.text or str(mark.notes.get("note") or "")
        middle = [float(v * factor) for v in mark.middle]
        return (mark.id, mark.name, words, mark.cls or None, *middle, said, note)

    def _numbers(self, rows) -> list[int]:
        return [int(self.model.table.cell(int(self.model.rows[row]), 0)) for row in rows]

    def _go(self, index: QModelIndex) -> None:
        self.marks.go_to(self._numbers([index.row()])[0])

    def _follow(self) -> None:
        """The chosen mark is the chosen row, and the box says whether marks are shown."""
        self.shown.setChecked(self.marks.shown)
        chosen = self.marks.chosen
        if self._waiting or not self.isVisible() or chosen is None:
            return
        rows = {i.row() for i in self.view.selectionModel().selectedRows()}
        if chosen in self._numbers(rows):
            return
        numbers = self.model.table.values[0] if self.model.table.count else []
        place = next((n for n, row in enumerate(self.model.rows) if int(numbers[int(row)]) == chosen), None)
        if place is not None:
            index = self.model.index(place, 0)
            how = QItemSelectionModel.SelectionFlag.ClearAndSelect | QItemSelectionModel.SelectionFlag.Rows
            self.view.selectionModel().select(index, how)
            self.view.scrollTo(index)

    def delete_chosen(self) -> None:
        """Take the marks of the chosen rows out."""
        numbers = self._numbers({i.row() for i in self.view.selectionModel().selectedIndexes()})
        if not numbers and self.marks.chosen is not None:
            numbers = [self.marks.chosen]
        if numbers and self.marks.key is not None:
            self.desk.run_now("delete-marks", {"marks": self.marks.key, "which": ", ".join(map(str, numbers))})

    def ask_and_save(self) -> None:
        marks = self.marks.marks
        if marks is None or self.marks.key is None:
            return
        start = str(Path.home() / f"{marks.name.replace('/', '-')}.geojson")
        name, _ = QFileDialog.getSaveFileName(self, "Save the marks", start, "Marks (*.geojson *.csv)")
        if name:
            self.save_as(Path(name))

    def save_as(self, path: Path) -> None:
        """Write the marks in hand."""
        path = path if path.suffix.lower() in (".csv", ".geojson") else path.with_name(f"{path.name}.geojson")
        marks, session = self.marks.marks, self.desk.session
        if marks is not None:
            session.work.start(
                f"Saving {path.name}",
                lambda progress: save_thing(path, marks, progress),
                lambda _: session.said.emit(f"Saved: {path.name}"),
            )

    def keyPressEvent(self, event) -> None:
        if event.key() == Qt.Key.Key_Delete:
            self.delete_chosen()
        else:
            super().keyPressEvent(event)
