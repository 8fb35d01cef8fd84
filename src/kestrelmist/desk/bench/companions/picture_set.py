"""Look at the pictures of a table, with their boxes, before a set is made of them."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import QPushButton, QVBoxLayout, QWidget

from ....core.errors import Trouble
from ...desk_model import Desk
from ..companion import Fields, companion
from ..fields import PathField
from ..rows import soft

NEEDED = ("table", "folder")


class LookAtThem(QWidget):
    """A button that opens the grid over the Light table, with what the form says of the table."""

    def __init__(self, desk: Desk, form: Fields):
        super().__init__()
        self.desk, self.form = desk, form
        self.button = QPushButton("Look at the pictures")
        self.told = soft("Rows and files are matched; boxes can be corrected by hand.")
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(3)
        column.addWidget(self.button)
        column.addWidget(self.told)
        self.button.clicked.connect(self.open)
        desk.collection.saved.connect(self._saved)
        desk.collection.opened.connect(self._opened)

    def _opened(self) -> None:
        """What was taken for what; it is said otherwise under Columns."""
        collection = self.desk.collection
        if collection.is_open:
            self.told.setText(f"Taken for {collection.heads}. Say it otherwise under Columns and Layout.")

    def _saved(self, path: str) -> None:
        """The form works on the corrected table from now on."""
        field = self.form.fields["table"]
        assert isinstance(field, PathField)
        field.field.setText(path)

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
