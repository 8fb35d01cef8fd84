"""Look at the pictures of a table, with their boxes, before a set is made of them."""

from __future__ import annotations

from pathlib import Path
from typing import cast

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QComboBox, QLineEdit, QPushButton, QVBoxLayout, QWidget

from ....core.errors import Trouble
from ....prepare.sets.box_columns import Layout
from ...models.desk_model import Desk
from ...pictures.columns import ColumnsOfTable
from ..companion import Fields, companion
from ..fields import PathField
from ..rows import soft

PAUSE = 250
"""Milliseconds after a key before the table is looked at."""
NEEDED = ("table", "folder")


class LookAtThem(QWidget):
    """What the columns of the table are, and a button that opens the grid over the Light table."""

    def __init__(self, desk: Desk, form: Fields):
        super().__init__()
        self.desk, self.form = desk, form
        self.button = QPushButton("Look at the pictures")
        self.told = soft("Rows and files are matched; boxes can be corrected by hand.")
        self.forget = QPushButton("Forget the corrections")
        self.forget.setProperty("kind", "link")
        self.columns = ColumnsOfTable(desk)
        self.unsaved = 0
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(5)
        for widget in (self.columns, self.button, self.told, self.forget):
            column.addWidget(widget)
        self._soon = QTimer(self, singleShot=True, interval=PAUSE)
        self._soon.timeout.connect(self._look)
        table, said, layout = form.fields["table"], form.fields["columns"], form.fields["layout"]
        assert isinstance(table, PathField) and isinstance(said, QLineEdit) and isinstance(layout, QComboBox)
        table.field.textChanged.connect(lambda _: self._soon.start())
        said.textEdited.connect(lambda _: self._soon.start())
        layout.currentIndexChanged.connect(lambda _: self._soon.start())
        self.columns.chosen.connect(said.setText)
        self.columns.shown.connect(self._tell)
        self.columns.chosen.connect(lambda _: self._chosen())
        self.button.clicked.connect(self.open)
        self.forget.clicked.connect(self._forget)
        desk.collection.saved.connect(self._saved)
        desk.collection.changed.connect(self._tell)
        self._look()

    def _look(self) -> None:
        layout = cast(Layout, self._text("layout"))
        self.columns.look_at(self._table, self._text("columns"), layout)
        self._tell()

    def _chosen(self) -> None:
        """Columns were chosen otherwise: pictures that are looked at are matched and framed anew."""
        self._soon.start()
        if self.desk.collection.is_open and self.columns.complete:
            self.open()

    def _saved(self, path: str) -> None:
        """The form works on the corrected table from now on, whose columns are the program's own."""
        table, said, layout, counted = (self.form.fields[n] for n in ("table", "columns", "layout", "counted_in"))
        assert isinstance(table, PathField) and isinstance(layout, QComboBox)
        assert isinstance(said, QLineEdit) and isinstance(counted, QLineEdit)
        table.field.setText(path)
        said.clear()
        counted.clear()
        layout.setCurrentIndex(0)
        self._tell()

    def _tell(self) -> None:
        """How many pictures were corrected, and that the file does not have it yet."""
        self.unsaved = self.desk.collection.unsaved(self._table)
        words = f"{self.unsaved} corrected picture{'s are' if self.unsaved > 1 else ' is'} not in the file yet."
        alone = (
            "No column names subjects: every picture counts as one of its own, and pictures of one subject may get"
            " into training and validation."
        )
        usual = alone if self.columns.lacks_subjects else "Rows and files are matched; boxes can be corrected by hand."
        self.told.setText(words if self.unsaved else usual)
        back = self.desk.collection.can_bring_back(self._table)
        self.forget.setText("Bring the corrections back" if back else "Forget the corrections")
        self.forget.setVisible(self.unsaved > 0 or back)

    def require_ready(self) -> None:
        """Raises Trouble while boxes that were corrected are not in the file that the set would be made of."""
        self._tell()
        if self.unsaved:
            raise Trouble(
                f"“{self._table.name}” has boxes as they were before they were corrected",
                "look at the pictures and press “Save the table…”, or press “Forget the corrections”",
            )

    def _forget(self) -> None:
        """Let the corrections go, or bring back those that were."""
        collection = self.desk.collection
        (collection.forget if self.unsaved else collection.bring_back)(self._table)
        self._tell()

    @property
    def _table(self) -> Path:
        return Path(self._text("table") or ".").expanduser()

    def _text(self, name: str) -> str:
        field = self.form.fields[name]
        return field.currentText() if hasattr(field, "currentText") else field.text().strip()

    def open(self) -> None:
        """Open the grid; says what is missing when it cannot."""
        try:
            for name in NEEDED:
                if not self._text(name):
                    raise Trouble(f"The {name} is not named yet", "choose it above")
            size = self._text("counted_in")
            counted = tuple(float(v) for v in size.replace(",", " ").split()) if size else None
            if counted is not None and len(counted) != 2:
                raise ValueError
        except Trouble as trouble:
            self.desk.session.trouble.emit(str(trouble))
            return
        except ValueError:
            self.desk.session.trouble.emit("“Counted in” needs two numbers, columns and rows.")
            return
        table, folder = (Path(self._text(name)).expanduser() for name in NEEDED)
        self.desk.collection.open(table, folder, self._text("columns"), self._text("layout"), counted)


@companion("picture-set")
def look_at_them(desk: Desk, form: Fields) -> QWidget:
    return LookAtThem(desk, form)
