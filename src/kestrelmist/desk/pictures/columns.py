"""Which column of a table of boxes is what: as it was guessed, and chosen otherwise from lists."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QSignalBlocker, Signal
from PySide6.QtWidgets import QComboBox, QFormLayout, QSizePolicy, QVBoxLayout, QWidget

from ...core.errors import Trouble
from ...prepare.sets.box_columns import Columns, Layout, as_said, likely
from ...prepare.sets.box_table import headings
from ..bench.rows import soft
from ..models.desk_model import Desk
from ..widgets.plain_text import Words

ASKED = {
    "picture": "Picture",
    "class": "Class",
    "subject": "Subject",
    "part": "Part",
}
COUNTED_IN = {"columns": "Whole width", "rows": "Whole height"}
BOX = {
    "corner and size": ("Left", "Top", "Width", "Height"),
    "two corners": ("Left", "Top", "Right", "Bottom"),
    "centre and size": ("Centre, x", "Centre, y", "Width", "Height"),
}
NONE = "none"


class ColumnsOfTable(QWidget):
    """A list of headings for everything that a column may be. What is chosen is told as the operation takes it."""

    chosen = Signal(str)
    shown = Signal()
    """Headings were read, or are taken otherwise."""

    def __init__(self, desk: Desk):
        super().__init__()
        self.desk = desk
        self.heads: list[str] = []
        self.lists = {role: QComboBox() for role in (*ASKED, *"abcd", *COUNTED_IN)}
        self.rows = QFormLayout()
        self.rows.setSpacing(5)
        self.rows.setFieldGrowthPolicy(QFormLayout.FieldGrowthPolicy.ExpandingFieldsGrow)
        self.told = soft("")
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(5)
        column.addWidget(self.told)
        column.addLayout(self.rows)
        for role, choice in self.lists.items():
            choice.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
            choice.setMinimumContentsLength(8)
            choice.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
            self.rows.addRow(Words(self._words(role, "corner and size")), choice)
            choice.activated.connect(lambda _: self._choose())
        self._asked = 0
        self._found = Columns({}, "corner and size")
        self._layout: Layout = "auto"
        self._show()

    @property
    def complete(self) -> bool:
        """Whether a set can be made with these columns."""
        return bool(self.heads) and not self._found.lacking

    @property
    def lacks_subjects(self) -> bool:
        """Whether headings were read and none names subjects."""
        return bool(self.heads) and "subject" not in self._found.where

    def _words(self, role: str, layout: str) -> str:
        return BOX[layout]["abcd".index(role)] if role in "abcd" else (ASKED | COUNTED_IN)[role]

    def look_at(self, table: Path, said: str, layout: Layout) -> None:
        """Read the headings of a table beside the window, and show what each column is taken for."""
        self._asked += 1
        asked = self._asked

        def put(heads: list[str]) -> None:
            if asked == self._asked:
                self.heads = heads
                self.follow(said, layout)

        def failed(error: BaseException) -> None:
            if asked == self._asked:
                self.heads = []
                self._show(str(error))

        if not table.is_file():
            failed(Trouble("Choose the table of boxes first"))
            return
        work = self.desk.session.work
        work.start("Headings", lambda _: headings(table), put, failed, "preview", loud=False, owner=self)

    def follow(self, said: str, layout: Layout) -> None:
        """Show what columns are taken for, when this is said of them."""
        self._layout = layout
        try:
            self._found = likely(self.heads, said, layout)
        except Trouble as trouble:
            self.told.setText(str(trouble))  # the lists stay as they are
            return
        wanted = [self._words(role, self._found.layout) for role in self._found.lacking]
        self._show(f"Choose the column of {', '.join(wanted)}:" if wanted else "")

    def _show(self, trouble: str = "") -> None:
        self.told.setText(trouble or "Columns of the table, as they are taken:")
        meant, where = self._found.layout, self._found.where
        for role, choice in self.lists.items():
            label = self.rows.labelForField(choice)
            label.setText(self._words(role, meant))  # type: ignore[attr-defined]
            choice.setAccessibleName(f"Column of: {self._words(role, meant)}")
            self.rows.setRowVisible(choice, bool(self.heads))
            with QSignalBlocker(choice):
                choice.clear()
                choice.addItem(NONE, None)
                for n, head in enumerate(self.heads):
                    choice.addItem(head or f"column {n + 1}", n)
                choice.setCurrentIndex(where[role] + 1 if role in where else 0)
        self.shown.emit()

    def _choose(self) -> None:
        """What was chosen otherwise than it is guessed without a word."""
        plain = likely(self.heads, "", self._layout).where
        picked = {role: choice.currentData() for role, choice in self.lists.items()}
        said = as_said({role: n for role, n in picked.items() if n != plain.get(role)}, self.heads)
        self.follow(said, self._layout)
        self.chosen.emit(said)
