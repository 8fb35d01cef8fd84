"""The Measure stage: one click gives the sizes of all labels."""

from __future__ import annotations

from PySide6.QtWidgets import QPushButton

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
        self.measure.clicked.connect(lambda: context.desk.run("measure-labels", {}))
        column.addWidget(title("Measure"))
        column.addWidget(self.subject)
        column.addWidget(self.measure)
        column.addWidget(
            soft(
                "Volume, voxels, mean and standard deviation of every label (areas and pixels on a picture) come into a"
                " table in the Drawer, which saves them with their units."
            )
        )
        self.add_groups(context, "Measure", column)
        self.add_headings("Measure", column, ("measure-labels",))
        for signal in (self.viewing.lead_changed, self.viewing.maps.changed, self.viewing.maps.chosen):
            signal.connect(self._follow)
        self._follow()

    def _follow(self) -> None:
        record, labels = self.viewing.record, self.viewing.maps.labels
        count = len(labels.table) if labels else 0
        self.measure.setEnabled(count > 0)
        if record is None:
            self.subject.setText("Choose an image on the Shelf.")
        elif count and labels is not None:
            several = "" if count == 1 else "s"
            self.subject.setText(f"{count} label{several} in “{labels.name}” on “{record.name}” of {record.subject}.")
        else:
            self.subject.setText(f"“{record.name}” has no labels yet: make some in Outline.")


PAGES.add("Measure", Page("Measure", MeasureBench))
