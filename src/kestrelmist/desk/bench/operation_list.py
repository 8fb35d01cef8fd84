"""Operations of a stage by name; a click opens the form in their place."""

from __future__ import annotations

from PySide6.QtWidgets import QPushButton, QVBoxLayout, QWidget

from ...core.operation import Operation
from ..desk_model import Desk
from .form import OperationForm
from .rows import OnePage, page, soft, title


class OperationPages(OnePage):
    """A stage's own page, and the form of one operation in front of it when asked for."""

    def __init__(self, desk: Desk, home: QWidget):
        super().__init__()
        self.desk, self.home, self.form = desk, home, None
        self.add(home)

    def open(self, operation: Operation) -> OperationForm:
        self.close_form()
        self.form = OperationForm(self.desk, operation, self.close_form)
        self.add(self.form)
        self.show_page(self.form)
        return self.form

    def close_form(self) -> None:
        if self.form is not None:
            self.remove(self.form)
            self.form.deleteLater()
            self.form = None
            self.show_page(self.home)
            if self.desk.tool == "frame":
                self.desk.set_tool("point")
            self.desk.set_framed(None)


def operation_buttons(pages_of, operations: list[Operation]) -> QWidget:
    """One link a row for the operations; `pages_of()` gives the pages that open the form."""
    widget = QWidget()
    column = QVBoxLayout(widget)
    column.setContentsMargins(0, 0, 0, 0)
    column.setSpacing(2)
    for operation in operations:
        button = QPushButton(operation.title)
        button.setProperty("kind", "link")
        button.setToolTip(operation.summary)
        button.clicked.connect(lambda _=False, o=operation: pages_of().open(o))
        column.addWidget(button)
    return widget


def plain_stage(desk: Desk, stage: str, sentence: str, operations: list[Operation]) -> OperationPages:
    """A stage whose Bench is its operations and nothing else."""
    home, column = page()
    pages = OperationPages(desk, home)
    column.addWidget(title(stage))
    column.addWidget(soft(sentence))
    column.addWidget(operation_buttons(lambda: pages, operations))
    return pages
