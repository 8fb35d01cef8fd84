"""A plot beside the table: its columns and axes, how much a gate holds, and the class it becomes."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QCheckBox, QComboBox, QHBoxLayout, QLineEdit, QPushButton, QVBoxLayout, QWidget

from ..bench.rows import quietly, soft
from ..models.gating import Gating
from ..widgets.plain_text import plain_tip
from .table_plot import TablePlot

COUNTED = "how many"


class PlotPanel(QWidget):
    """A histogram of one column, or points of two."""

    only = Signal(bool)
    """Whether only rows inside the gate are to be listed."""

    def __init__(self, gating: Gating):
        super().__init__()
        self.gating = gating
        self.plot = TablePlot(gating)
        self.across, self.up = QComboBox(), QComboBox()
        self.across.setAccessibleName("Column along the plot")
        self.up.setAccessibleName("Column up the plot")
        self.log_x, self.log_y = QCheckBox("log"), QCheckBox("log")
        for box, name in ((self.log_x, "along"), (self.log_y, "up")):
            box.setAccessibleName(f"Logarithms {name} the plot")
        self.name = QLineEdit()
        self.name.setPlaceholderText("Name of a class")
        self.name.setAccessibleName("Name of the class")
        self.make, self.clear, self.label = QPushButton("Make a class"), QPushButton("Clear"), QPushButton("To labels")
        self.label.setToolTip(plain_tip("A label map of the classes, on the image that leads"))
        for button in (self.make, self.clear, self.label):
            button.setProperty("kind", "small")
        self.make.setToolTip(plain_tip("Rows inside the gate get this class, in a column of a new table"))
        self.only_inside = QCheckBox("List only these")
        self.told = soft()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(5)
        top = QHBoxLayout()
        top.setSpacing(6)
        for widget, stretch in ((self.across, 1), (self.log_x, 0), (self.up, 1), (self.log_y, 0)):
            top.addWidget(widget, stretch)
        column.addLayout(top)
        column.addWidget(self.plot, 1)
        line = QHBoxLayout()
        line.setSpacing(6)
        for widget in (self.name, self.make, self.label, self.clear):
            line.addWidget(widget, 1 if widget is self.name else 0)
        above = QHBoxLayout()
        above.addWidget(self.told, 1)
        above.addWidget(self.only_inside)
        column.addLayout(above)
        column.addLayout(line)
        self.across.activated.connect(lambda _: gating.plot(x=self.across.currentData()))
        self.up.activated.connect(lambda _: gating.plot(y=self.up.currentData()))
        self.log_x.toggled.connect(lambda on: gating.plot(log_x=on))
        self.log_y.toggled.connect(lambda on: gating.plot(log_y=on))
        self.make.clicked.connect(self._make)
        self.name.returnPressed.connect(self._make)
        self.clear.clicked.connect(gating.clear)
        self.label.clicked.connect(gating.to_labels)
        self.only_inside.toggled.connect(self.only)
        gating.changed.connect(self._follow)
        gating.gated.connect(self._tell)
        self._follow()

    def _make(self) -> None:
        self.gating.make_class(self.name.text().strip() or "Gated")

    def _follow(self) -> None:
        gating = self.gating
        with quietly(self.across, self.up, self.log_x, self.log_y):
            for field, first, chosen in ((self.across, [], gating.x), (self.up, [(COUNTED, "")], gating.y)):
                wanted = [*first, *((gating.unit_of(name), name) for name in gating.columns)]
                if [(field.itemText(n), field.itemData(n)) for n in range(field.count())] != wanted:
                    field.clear()
                    for text, name in wanted:
                        field.addItem(text, name)
                field.setCurrentIndex(max(0, field.findData(chosen)))
            self.log_x.setChecked(gating.log_x)
            self.log_y.setChecked(gating.log_y)
        self.log_y.setEnabled(bool(gating.y))
        self._tell()

    def _tell(self) -> None:
        gating = self.gating
        there = gating.gate is not None and gating.table is not None
        for widget in (self.name, self.make, self.clear, self.only_inside):
            widget.setEnabled(there)
        self.label.setEnabled(gating.has_classes)
        if not there:
            self.told.setText("Draw round points for a gate." if gating.y else "Draw along the plot for a gate.")
            return
        assert gating.table is not None
        count, whole = gating.count, max(1, gating.table.count)
        self.told.setText(f"{count:,} of {gating.table.count:,} inside ({100 * count / whole:.3g} %)".replace(",", " "))
