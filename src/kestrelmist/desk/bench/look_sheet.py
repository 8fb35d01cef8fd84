"""Which slices the contact sheet shows, and how they lie, on the Bench while it is seen."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QComboBox, QGridLayout, QPushButton, QSlider, QSpinBox, QVBoxLayout, QWidget

from ...core.quantity import pretty_unit
from ...scene.sheet.plan import MOST
from ..models.desk_model import Desk
from ..widgets.number_field import number
from ..widgets.plain_text import plain_tip
from .rows import quietly, row, section

WIDE = 66
PLANES = (
    ("Axial", ("axial",)),
    ("Coronal", ("coronal",)),
    ("Sagittal", ("sagittal",)),
    ("All three", ("axial", "coronal", "sagittal")),
)
PARTS = (
    ("letters", "Side letters"),
    ("written", "Positions, bar"),
    ("bars", "Colour bars"),
    ("locator", "Where they cut"),
    ("trim", "Cut to subject"),
    ("light", "Light ground"),
)


class SheetPanel(QWidget):
    """Shown while the contact sheet is."""

    def __init__(self, desk: Desk, open_operation):
        super().__init__()
        self.viewing, self.model = desk.viewing, desk.sheet
        self.plane, self.over = QComboBox(), QComboBox()
        self.plane.setAccessibleName("Planes of the contact sheet")
        self.over.setAccessibleName("Over what slices lie")
        for words, planes in PLANES:
            self.plane.addItem(words, planes)
        self.count, self.columns = QSpinBox(), QSpinBox()
        self.count.setRange(1, MOST)
        self.count.setAccessibleName("Slices of each plane")
        self.columns.setRange(0, MOST)
        self.columns.setSpecialValueText("by the page")
        self.columns.setAccessibleName("Columns of the contact sheet")
        self.every = number(0, 1e6, 2, "", "Steps between slices")
        self.every.setSpecialValueText("by number")
        self.start, self.end = (number(-1e9, 1e9, 2, "", f"Slices {word}", follows=True) for word in ("from", "to"))
        self.whole = QCheckBox("From end to end")
        self.gap = QSlider()
        self.gap.setOrientation(Qt.Orientation.Horizontal)
        self.gap.setRange(-60, 60)
        self.gap.setAccessibleName("Gap between slices; to the left they overlap")
        self.gap.setToolTip(plain_tip("To the left slices overlap, to the right they stand apart"))
        self.parts = {name: QCheckBox(words) for name, words in PARTS}
        self.write = QPushButton("Write the sheet …")
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(5)
        column.addWidget(section("Contact sheet"))
        column.addLayout(row("Planes", self.plane, width=WIDE))
        column.addLayout(row("Slices", self.count, width=WIDE))
        column.addLayout(row("Steps of", self.every, width=WIDE))
        column.addLayout(row("Over", self.over, width=WIDE))
        column.addWidget(self.whole)
        self.ends = QWidget()
        self.ends.setLayout(row("From, to", self.start, self.end, width=WIDE))
        self.ends.layout().setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.ends)
        column.addLayout(row("Columns", self.columns, width=WIDE))
        column.addLayout(row("Gap", self.gap, width=WIDE))
        grid = QGridLayout()
        grid.setSpacing(4)
        for n, box in enumerate(self.parts.values()):
            grid.addWidget(box, n // 2, n % 2)
        column.addLayout(grid)
        column.addWidget(self.write)
        change = self.model.change
        self.plane.activated.connect(lambda n: change(planes=PLANES[n][1]))
        self.count.valueChanged.connect(lambda v: change(count=v, places=()))
        self.every.valueChanged.connect(lambda v: change(every=v))
        self.over.activated.connect(lambda n: change(label=self.over.itemData(n)))
        self.start.valueChanged.connect(lambda v: change(start=v))
        self.end.valueChanged.connect(lambda v: change(end=v))
        self.whole.toggled.connect(self._whole)
        self.columns.valueChanged.connect(lambda v: change(columns=v))
        self.gap.valueChanged.connect(lambda v: change(gap=v / 100))
        for name, box in self.parts.items():
            box.toggled.connect(lambda on, name=name: change(**{name: on}))
        self.write.clicked.connect(lambda: open_operation("sheet", self.model.settings()))
        self.model.changed.connect(self.follow)
        viewing = self.viewing
        for signal in (viewing.arrangement_changed, viewing.lead_changed, viewing.lead_ready, viewing.maps.chosen):
            signal.connect(self.follow)
        self.follow()

    def _whole(self, on: bool) -> None:
        if on:
            self.model.change(start=None, end=None)
            return
        record = self.viewing.record
        if record is not None:
            axis = {"axial": 2, "coronal": 1, "sagittal": 0}[self.model.plan.planes[0]]
            along = record.grid.corners()[:, axis]
            self.model.change(start=float(along.min()), end=float(along.max()))

    def follow(self) -> None:
        record, plan = self.viewing.record, self.model.plan
        self.setVisible(self.viewing.arrangement.sheet and record is not None)
        numbers = (self.count, self.columns, self.every, self.start, self.end, self.gap)
        with quietly(self.plane, self.over, self.whole, *numbers, *self.parts.values()):
            known = [planes for _, planes in PLANES]
            self.plane.setCurrentIndex(known.index(plan.planes) if plan.planes in known else -1)
            self.count.setValue(plan.count)
            self.count.setEnabled(not plan.every)
            self.columns.setValue(plan.columns)
            unit = f" {pretty_unit(record.grid.unit)}" if record is not None else ""
            for field in (self.every, self.start, self.end):
                field.setSuffix(unit)
            self.every.setValue(plan.every)
            bounded = plan.start is not None or plan.end is not None
            self.whole.setChecked(not bounded)
            self.ends.setVisible(bounded)
            for field, value in ((self.start, plan.start), (self.end, plan.end)):
                field.setValue(value or 0.0)
            self.gap.setValue(round(100 * plan.gap))
            self.over.clear()
            self.over.addItem("The subject", 0)
            labels = self.viewing.maps.labels
            if labels is not None:
                for one in labels.table:
                    if labels.counts[one.number]:
                        self.over.addItem(one.name, one.number)
            self.over.setCurrentIndex(max(0, self.over.findData(plan.label)))
            for name, box in self.parts.items():
                box.setChecked(bool(getattr(plan, name)))
