"""Lines over the known length: those that are drawn while the form is open fill its fields, and what comes of them is
told at once."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QPushButton, QVBoxLayout, QWidget

from ....core.errors import Trouble
from ....core.geometry.mark import Mark
from ....core.operation import find_operation
from ...models.desk_model import Desk
from ...widgets.plain_text import Words, plain_tip
from ..companion import Fields, companion
from ..rows import soft
from ..suited import suited

TOOL = "mark-line"
LINE = "line"
DEPENDS = ("from_", "to", "length", "repeat", "sure", "reach", "nominal", "camera_pixel", "binning")
CHOICES = ("ends", "along", "other")


class DrawnLines(QWidget):
    """A button for the tool, how many lines there are, and the pixel size they tell."""

    def __init__(self, desk: Desk, form: Fields):
        super().__init__()
        self.desk, self.marks, self.form = desk, desk.marks, form
        self.draw, self.again = QPushButton("Draw the line"), QPushButton("Start over")
        self.draw.setToolTip(plain_tip("Drag from one end of the known length to the other; again, to repeat it"))
        self.again.setToolTip(plain_tip("Forget the lines drawn so far; the marks stay"))
        for button in (self.draw, self.again):
            button.setProperty("kind", "small")
        self.counted, self.told, self.notes = soft(), Words(), soft()
        self.told.setWordWrap(True)
        row = QHBoxLayout()
        row.setSpacing(6)
        row.addWidget(self.draw)
        row.addWidget(self.again)
        row.addStretch(1)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        column.addLayout(row)
        for one in (self.counted, self.told, self.notes):
            column.addWidget(one)
        self.lines: list[int] = []
        self._ends: list = []
        self._before: set[int] = set()
        self._asked: tuple | None = None
        self.draw.clicked.connect(lambda: desk.hand.set_tool(TOOL))
        self.again.clicked.connect(self.start_over)
        self.marks.changed.connect(self.follow)
        desk.viewing.lead_changed.connect(self.start_over)
        for name in DEPENDS:
            field = self._field(name)
            if isinstance(field, QLineEdit):
                field.textChanged.connect(lambda _: self.tell())
        for name in CHOICES:
            box = self._field(name)
            if box is not None and hasattr(box, "currentIndexChanged"):
                box.currentIndexChanged.connect(lambda _: self.tell())
        self.start_over()

    def _field(self, name: str) -> QWidget | None:
        return self.form.fields.get(name)

    def _there(self) -> dict[int, Mark]:
        marks = self.marks.marks
        return {} if marks is None else {n: mark for n, mark in marks.marks.items() if mark.shape == LINE}

    def start_over(self) -> None:
        """Lines that are there now do not count, save the chosen one."""
        there = self._there()
        chosen = self.marks.chosen
        self._before = set(there) - {chosen}
        self.lines, self._ends = [], [None]
        self.follow()

    def follow(self) -> None:
        """Lines were drawn, moved or taken out."""
        there = self._there()
        now = [n for n in there if n not in self._before]
        ends = [there[n].points for n in now]
        if now == self.lines and self._ends == ends:
            return
        self.lines, self._ends = now, ends
        several = "" if len(now) == 1 else "s"
        begin = "Drag a line over a known length; repeat it to learn the spread."
        self.counted.setText(f"{len(now)} line{several} drawn." if now else begin)
        self.again.setVisible(bool(now))
        if now:
            self._put("from_", [ends[0][0]])
            self._put("to", [ends[0][-1]])
            self._put("repeat", [point for line in ends[1:] for point in (line[0], line[-1])])
        self.tell()

    def _put(self, name: str, points: list) -> None:
        field = self._field(name)
        if isinstance(field, QLineEdit):
            _, factor = suited(self.desk.viewing.record, "mm", "places")
            field.setText("; ".join(", ".join(f"{v * factor:.7g}" for v in point) for point in points))
            field.setCursorPosition(0)

    def tell(self) -> None:
        """What the fields tell now, beside the window; nothing while something is missing."""
        image, operation = self.desk.viewing.image, find_operation("calibrate")
        try:
            given = self.form.values()
        except Trouble:  # something is still missing, or half typed
            given = {}
        if image is None or not given:
            self._asked = None
            self.told.hide()
            self.notes.hide()
            return
        names = {p.name for p in operation.settings}
        asked = (image, {k: v for k, v in given.items() if k in names and v is not None})
        other = given.get("other")
        self._asked = asked

        def work(progress):
            known = None if other is None else self.desk.study.thing(int(other))
            return operation(image=image, other=known, **operation.checked(asked[1]))["calibration"]

        def show(made) -> None:
            if self._asked is asked:
                self.told.setText(f"{made.words} a pixel (95 %)")
                self.notes.setText(" ".join(f"{note}." for note in made.notes))
                self.told.show()
                self.notes.setVisible(bool(made.notes))

        def failed(trouble: Exception) -> None:
            if self._asked is asked:
                self.told.hide()
                self.notes.setText(str(trouble) if isinstance(trouble, Trouble) else "This cannot be told yet.")
                self.notes.show()

        self.desk.session.work.start("Calibration", work, show, failed, lane="preview", loud=False, owner=self)

    def keyPressEvent(self, event) -> None:
        if event.key() == Qt.Key.Key_Escape:
            self.start_over()
        super().keyPressEvent(event)


@companion("calibrate")
def drawn_lines(desk: Desk, form: Fields) -> QWidget:
    return DrawnLines(desk, form)
