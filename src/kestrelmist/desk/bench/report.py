"""The Report stage: results and the logbook out of the study."""

from __future__ import annotations

from PySide6.QtWidgets import QPushButton

from ..desk_model import Desk
from .operation_list import OperationPages
from .rows import page, section, soft, title


class ReportBench(OperationPages):
    """Opens the Drawer where tables are saved and the logbook is copied; saves the lead picture."""

    def __init__(self, desk: Desk, open_drawer, save_picture):
        home, column = page()
        super().__init__(desk, home)
        column.addWidget(title("Report"))
        column.addWidget(soft("Take results out of the study."))
        column.addWidget(section("Results"))
        for words, do in (("Tables, to save as CSV", lambda: open_drawer("tables")),
                          ("Logbook, to copy as a recipe", lambda: open_drawer("logbook")),
                          ("Save the lead picture with its scale bar…", save_picture)):
            button = QPushButton(words)
            button.setProperty("kind", "link")
            button.clicked.connect(do)
            column.addWidget(button)
