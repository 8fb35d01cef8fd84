"""The Measure stage: one click gives the sizes of all labels."""

from __future__ import annotations

from PySide6.QtWidgets import QHBoxLayout, QPushButton

from ....core.operation import find_operation
from ....core.scale import scale_of
from ...widgets.plain_text import plain_tip
from ..form_memory import last_used
from ..page import PAGES, BenchContext, OperationPages, Page
from ..rows import page, soft, title


class MeasureBench(OperationPages):
    """Labels into a table."""

    def __init__(self, context: BenchContext):
        home, column = page()
        super().__init__(context.desk, home)
        self.viewing = context.desk.viewing
        self.subject = soft()
        self.measure = QPushButton("Measure labels")
        self.measure.setProperty("kind", "primary")
        self.measure.clicked.connect(lambda: context.desk.run("measure-labels", self._columns("measure-labels")))
        column.addWidget(title("Measure"))
        column.addWidget(self.subject)
        self.marks = QPushButton("Measure marks")
        self.marks.clicked.connect(lambda: context.desk.run("measure-marks", self._columns("measure-marks")))
        self.calibrate = QPushButton("Calibrate…")
        self.calibrate.clicked.connect(lambda: self.open(find_operation("calibrate")))
        self.use = QPushButton("Use…")
        self.use.setToolTip(plain_tip("Give this image the pixel size of a calibration"))
        self.use.clicked.connect(lambda: self.open(find_operation("use-calibration")))
        self.scale = soft()
        row = QHBoxLayout()
        row.setSpacing(6)
        row.addWidget(self.measure)
        row.addWidget(self.marks)
        row.addStretch(1)
        column.addLayout(row)
        for button in (self.calibrate, self.use):
            button.setProperty("kind", "small")
        line = QHBoxLayout()
        line.setSpacing(6)
        line.addWidget(self.calibrate)
        line.addWidget(self.use)
        line.addStretch(1)
        column.addWidget(self.scale)
        column.addLayout(line)
        self.add_groups(context, "Measure", column)
        self.add_headings("Measure", column)
        drawn = context.desk.marks
        self.drawn = drawn
        signals = (self.viewing.lead_changed, self.viewing.maps.changed, self.viewing.maps.chosen, drawn.listed)
        for signal in signals:
            signal.connect(self._follow)
        context.desk.session.things_changed.connect(lambda items: self._follow())
        self._follow()

    def _columns(self, operation: str) -> dict:
        """The columns that were chosen last in the form of an operation, which the study remembers."""
        return last_used(self.desk.study, find_operation(operation), "columns")

    def _follow(self) -> None:
        record, labels = self.viewing.record, self.viewing.maps.labels
        count = len(labels.table) if labels else 0
        for button, operation in ((self.measure, "measure-labels"), (self.marks, "measure-marks")):
            chosen = self._columns(operation).get("columns", "usual")
            button.setToolTip(plain_tip(f"With the columns that were chosen last: {chosen}"))
        self.measure.setEnabled(count > 0)
        self.marks.setEnabled(self.drawn.marks is not None and len(self.drawn.marks) > 0)
        self.calibrate.setEnabled(record is not None)
        words = "" if record is None else scale_of(record).words
        self.scale.setText(f"{words[:1].upper()}{words[1:]}." if words.startswith("no scale") else f"Scale {words}.")
        self.scale.setVisible(record is not None)
        self.use.setEnabled(record is not None)
        if record is None:
            self.subject.setText("Choose an image on the Shelf.")
        elif count and labels is not None:
            several = "" if count == 1 else "s"
            self.subject.setText(f"{count} label{several} in “{labels.name}” on “{record.name}” of {record.subject}.")
        else:
            self.subject.setText(f"“{record.name}” has no labels yet: make some in Outline.")


PAGES.add("Measure", Page("Measure", MeasureBench))
