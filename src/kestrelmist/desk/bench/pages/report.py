"""The Report stage: results and the logbook out of the study."""

from __future__ import annotations

from PySide6.QtWidgets import QPushButton

from ....core.operation import find_operation
from ..page import PAGES, BenchContext, OperationPages, Page, operation_buttons
from ..rows import page, section, soft, title

LISTED = ("logbook", "recipe", "versions")


class ReportBench(OperationPages):
    """Opens the Drawer where tables are saved and the logbook is copied; saves the lead picture; runs recipes."""

    def __init__(self, context: BenchContext):
        home, column = page()
        super().__init__(context.desk, home)
        column.addWidget(title("Report"))
        column.addWidget(soft("Take results out of the study, or do its steps again on other subjects."))
        column.addWidget(section("Results"))
        for words, do in (
            ("Tables, to save as CSV or Parquet", lambda: context.open_drawer("tables")),
            ("Logbook, to copy as a recipe", lambda: context.open_drawer("logbook")),
            ("Save the lead picture with its scale bar…", context.save_picture),
        ):
            button = QPushButton(words)
            button.setProperty("kind", "link")
            button.clicked.connect(do)
            column.addWidget(button)
        self.add_groups(context, "Report", column)
        column.addWidget(section("Steps"))
        listed = [find_operation(name) for name in LISTED]
        column.addWidget(operation_buttons(lambda: self, listed))


PAGES.add("Report", Page("Report", ReportBench))
