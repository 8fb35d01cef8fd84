"""The Measure stage: one click gives the volumes of all labels."""

from __future__ import annotations

from PySide6.QtWidgets import QPushButton

from ...operations import all_operations
from ..desk_model import Desk
from .operation_list import OperationPages, operation_buttons
from .rows import page, section, soft, title


class MeasureBench(OperationPages):
    """Labels into a table."""

    def __init__(self, desk: Desk):
        home, column = page()
        super().__init__(desk, home)
        self.subject = soft()
        self.measure = QPushButton("Measure labels")
        self.measure.setProperty("kind", "primary")
        self.measure.clicked.connect(lambda: desk.run("measure labels", {}))
        column.addWidget(title("Measure"))
        column.addWidget(self.subject)
        column.addWidget(self.measure)
        column.addWidget(soft("Volume, voxels, mean and standard deviation of every label come into a table in the Drawer,"
                              " which saves them as CSV with their units."))
        more = [o for o in all_operations().values() if o.stage == "measure" and o.name != "measure labels"]
        if more:
            column.addWidget(section("More"))
            column.addWidget(operation_buttons(lambda: self, more))
        desk.image_changed.connect(self._image)
        desk.labels_changed.connect(self._image)
        self._image()

    def _image(self) -> None:
        desk = self.desk
        count = len(desk.labels.table) if desk.labels else 0
        self.measure.setEnabled(count > 0)
        if desk.record is None:
            self.subject.setText("Choose an image on the Shelf.")
        elif count:
            self.subject.setText(f"{count} label{'' if count == 1 else 's'} on “{desk.record.name}” of {desk.record.subject}.")
        else:
            self.subject.setText(f"“{desk.record.name}” has no labels yet: make some in Outline.")
