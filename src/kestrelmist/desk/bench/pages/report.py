"""The Report stage: results and the logbook out of the study."""

from __future__ import annotations

from PySide6.QtWidgets import QPushButton

from ..page import PAGES, BenchContext, OperationPages, Page
from ..rows import page, section, soft, title


def open_recipe(desk) -> None:
    """The recipe that was looked at last, or the first there is."""
    model = desk.recipes
    model.open(model.name or model.names()[0])


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
            ("Recipes: set up, check, run on all", lambda: open_recipe(context.desk)),
            ("Save the lead picture with its scale bar…", context.save_picture),
        ):
            button = QPushButton(words)
            button.setProperty("kind", "link")
            button.clicked.connect(do)
            column.addWidget(button)
        self.add_groups(context, "Report", column)
        self.add_headings("Report", column, ("undo", "redo"))


PAGES.add("Report", Page("Report", ReportBench))
