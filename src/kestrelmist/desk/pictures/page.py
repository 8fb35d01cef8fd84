"""The pictures of a table of boxes over the Light table: the grid, or one of them large."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QEvent, Qt
from PySide6.QtGui import QKeySequence
from PySide6.QtWidgets import (
    QComboBox,
    QFileDialog,
    QHBoxLayout,
    QPushButton,
    QStackedWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from ..models.collection import ALL, NONE, PROBLEMS, UNNAMED, Collection
from ..theme.theme import icon
from ..widgets.plain_text import Words, plain_tip
from .grid import Grid
from .one_picture import OnePicture
from .reader import PictureReader


class PicturesPage(QWidget):
    """Filters on top, pages below; a click on a picture shows it large, where its boxes are corrected."""

    def __init__(self, collection: Collection):
        super().__init__()
        self.setObjectName("panel")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.collection, self.reader = collection, PictureReader(self)
        self.grid, self.one = Grid(collection, self.reader), OnePicture(collection, self.reader)
        self.heading, self.told = Words(), Words()
        self.heading.setProperty("kind", "title")
        self.told.setProperty("kind", "soft")
        self.classes, self.problems = QComboBox(), QComboBox()
        self.classes.setAccessibleName("Class that is shown")
        self.problems.setAccessibleName("Problem that is shown")
        self.problems.addItems(PROBLEMS)
        self.back, self.undo, self.save = (
            QPushButton("All pictures"),
            QPushButton("Undo"),
            QPushButton("Save the table…"),
        )
        self.away, self.of_box = QPushButton("Take the box away"), QComboBox()
        self.of_box.setEditable(True)
        for box in (self.classes, self.of_box):
            box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
            box.setMinimumContentsLength(14)
        self.of_box.setAccessibleName("Class of the chosen box, or of the next one that is drawn")
        self.undo.setToolTip("Take the last correction back")
        self.save.setToolTip(plain_tip("Write the table with its corrections as CSV; the form uses that one then"))
        self.shut = QToolButton()
        self.shut.setToolTip("Put the pictures away")
        self.shut.setAccessibleName("Put the pictures away")
        self.before, self.after, self.number = QPushButton("Before"), QPushButton("Next"), Words()
        self.number.setProperty("kind", "soft")
        for button in (self.back, self.undo, self.save, self.away, self.before, self.after):
            button.setProperty("kind", "small")
        top, tools, foot = QHBoxLayout(), QHBoxLayout(), QHBoxLayout()
        top.addWidget(self.heading, 1)
        top.addWidget(self.shut)
        for widget in (self.back, self.classes, self.problems, self.of_box, self.away):
            tools.addWidget(widget)
        tools.addStretch(1)
        tools.addWidget(self.undo)
        tools.addWidget(self.save)
        foot.addWidget(self.told, 1)
        for widget in (self.before, self.number, self.after):
            foot.addWidget(widget)
        self.stack = QStackedWidget()
        self.stack.addWidget(self.grid)
        self.stack.addWidget(self.one)
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 8, 12, 8)
        column.setSpacing(8)
        column.addLayout(top)
        column.addLayout(tools)
        column.addWidget(self.stack, 1)
        column.addLayout(foot)
        self._connect()
        self.dress()

    def _connect(self) -> None:
        collection = self.collection
        self.classes.activated.connect(lambda n: collection.choose(chosen_class=self.classes.itemText(n)))
        self.problems.activated.connect(lambda n: collection.choose(problem=self.problems.itemText(n)))
        self.before.clicked.connect(lambda: self._turn(-1))
        self.after.clicked.connect(lambda: self._turn(1))
        self.grid.chosen.connect(self.show_one)
        self.back.clicked.connect(self.show_all)
        self.undo.clicked.connect(collection.undo)
        self.save.clicked.connect(self.ask_and_save)
        self.away.clicked.connect(self.one.take_away)
        self.of_box.textActivated.connect(self.one.set_class)
        self.of_box.lineEdit().editingFinished.connect(lambda: self.one.set_class(self.of_box.currentText().strip()))
        self.shut.clicked.connect(collection.close)
        self.one.box_chosen.connect(self._follow)
        collection.opened.connect(self._opened)
        collection.saved.connect(lambda _: self._head())
        collection.changed.connect(self._follow)
        self.reader.failed.connect(collection.unreadable)
        self.reader.sized.connect(collection.seen)
        self.reader.failed.connect(lambda name, words: self.grid.cells.tell(name))

    def dress(self) -> None:
        self.shut.setIcon(icon("x", 16))

    def event(self, event) -> bool:
        """Undo is that of the boxes while they are under the hand, and not that of the study."""
        if event.type() == QEvent.Type.ShortcutOverride and event.matches(QKeySequence.StandardKey.Undo):
            event.accept()
            return True
        return super().event(event)

    def keyPressEvent(self, event) -> None:
        if event.matches(QKeySequence.StandardKey.Undo):
            self.collection.undo()
        else:
            super().keyPressEvent(event)

    def _opened(self) -> None:
        self.reader.forget()
        self.show_all()
        collection = self.collection
        if collection.table is None:
            return
        self._head()
        self.one.new_class = collection.usual_class
        self.grid.cells.show_page()

    def _head(self) -> None:
        table = self.collection.table
        self._write(self.heading, f"Pictures of “{table.name}”" if table is not None else "")
        self.heading.setToolTip(plain_tip(self.collection.heads))

    def show_one(self, name: str) -> None:
        """A picture large."""
        self.stack.setCurrentWidget(self.one)
        self.one.show_picture(name)
        self.one.setFocus()
        self._follow()

    def show_all(self) -> None:
        self.stack.setCurrentWidget(self.grid)
        self.grid.want()
        self._follow()

    @property
    def large(self) -> bool:
        return self.stack.currentWidget() is self.one

    def _turn(self, by: int) -> None:
        """The page or the picture before or after."""
        if not self.large:
            self.collection.turn_to(self.collection.page + by)
            return
        names = [entry.name for entry in self.collection.visible]
        at = names.index(self.one.name) if self.one.name in names else 0
        if names:
            self.show_one(names[min(max(at + by, 0), len(names) - 1)])

    def _follow(self) -> None:
        collection, large = self.collection, self.large
        entry = self.one.entry
        for widget in (self.back, self.of_box, self.away):
            widget.setVisible(large)
        for widget in (self.classes, self.problems):
            widget.setVisible(not large)
        names = collection.classes
        if [self.classes.itemText(n) for n in range(self.classes.count())] != names:
            self.classes.clear()
            self.classes.addItems(names)
            self.of_box.clear()
            self.of_box.addItems([name for name in names if name not in (ALL, UNNAMED, NONE)])
        self.classes.setCurrentText(collection.chosen_class)
        self.problems.setCurrentText(collection.chosen_problem)
        self.undo.setEnabled(collection.can_undo)
        chosen = self.one.chosen
        self.away.setEnabled(chosen is not None)
        label = entry.rows[chosen].label if entry is not None and chosen is not None else self.one.new_class
        if not self.of_box.lineEdit().hasFocus() or chosen is not None:
            self.of_box.setCurrentText(label)
        visible = collection.visible
        if large and entry is not None:
            at = next((n for n, e in enumerate(visible) if e is entry), 0)
            self.number.setText(f"{at + 1} of {len(visible)}")
            boxes = sum(row.box is not None for row in entry.rows)
            count = f"{boxes} {'box' if boxes == 1 else 'boxes'}"
            self._write(self.told, f"{count} · {entry.rows[0].subject} · {entry.name}")
        else:
            self.number.setText(f"Page {collection.page + 1} of {collection.pages}")
            missing = collection.missing
            lost = f", {missing} without a file" if missing else ""
            self._write(self.told, f"{len(visible)} of {len(collection.entries)} pictures{lost}")

    def _write(self, line: Words, text: str) -> None:
        """Names may be long; the page does not grow with them."""
        room = max(200, self.width() - 320)
        line.setText(line.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, room))

    def ask_and_save(self) -> None:
        table = self.collection.table
        if table is None:
            return
        start = str(table.with_name(f"{table.stem}, corrected.csv"))
        name, _ = QFileDialog.getSaveFileName(self, "Save the table of boxes", start, "Table (*.csv)")
        if name:
            self.collection.save(Path(name))
