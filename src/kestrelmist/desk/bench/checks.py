"""The Checks at the foot of the Bench: a sentence each, and a button that mends it."""

from __future__ import annotations

from PySide6.QtCore import QPointF, Qt, QTimer
from PySide6.QtGui import QColor, QPainter, QPolygonF
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from ...checks.notice import Mend, Notice, Subject, run_checks
from ...core.operation import find_operation
from ..models.desk_model import Desk
from ..theme.theme import Theme
from ..widgets.plain_text import Words
from .rows import section

MARKS = {"look": "amber", "wrong": "red", "fine": "moss"}
MOST_SHOWN = 8
"""Notices that are shown; more are counted."""


class Dot(QWidget):
    """A mark by level: triangle to look here, square for wrong, disc for fine, so that colour is not alone."""

    def __init__(self, level: str):
        super().__init__()
        self.level = level
        self.setFixedSize(14, 18)
        self.setAccessibleName({"look": "Look here", "wrong": "Wrong", "fine": "Fine"}[level])

    def paintEvent(self, event) -> None:
        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(QColor(getattr(Theme.tokens, MARKS[self.level])))
            if self.level == "fine":
                painter.drawEllipse(2, 5, 9, 9)
            elif self.level == "wrong":
                painter.drawRect(2, 5, 9, 9)
            else:
                painter.drawPolygon(QPolygonF([QPointF(6.5, 4), QPointF(12, 14), QPointF(1, 14)]))


class ChecksList(QWidget):
    """Runs the checks of the present stage in a lane of their own whenever something has changed and the hand rests."""

    def __init__(self, desk: Desk, open_operation):
        super().__init__()
        self.desk, self.viewing, self._open = desk, desk.viewing, open_operation
        self.notices: list[Notice] = []
        self._job = None
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(0, 0, 0, 0)
        self.column.setSpacing(5)
        self.column.addWidget(section("Checks"))
        self._soon = QTimer(self, singleShot=True, interval=500)
        self._soon.timeout.connect(self._run)
        viewing = desk.viewing
        for signal in (
            viewing.maps.changed,
            viewing.lead_changed,
            viewing.lead_ready,
            viewing.maps.chosen,
            viewing.stage_changed,
            desk.session.shelf_changed,
            desk.layers.changed,
            desk.marks.listed,
        ):
            signal.connect(self._later)

    @property
    def settled(self) -> bool:
        return not self._soon.isActive() and self._job is None

    def _later(self) -> None:
        if self._job is not None:
            self._job.progress.cancel()
            self._job = None
        self._soon.start()

    def _run(self) -> None:
        viewing = self.viewing
        if not viewing.ready or viewing.record is None or viewing.image is None:
            self.show_notices([])
            return
        stage, image, labels, whole = viewing.stage.lower(), viewing.image, viewing.maps.labels, viewing.series
        records, record = self.desk.study.records(), viewing.record.id
        over = [row.record for row in self.desk.layers.rows if not row.leads]
        transforms = [r for r in self.desk.study.transforms() if r.subject == viewing.record.subject]

        marks = self.desk.marks.marks
        others = [m for r in viewing.maps.others() if (m := self.desk.study.maps.in_memory(r.id)) is not None]

        def check(progress):
            subject = Subject(image, labels, progress.stop, whole, records, record, over, transforms, marks, others)
            return run_checks(subject, stage)

        def done(notices) -> None:
            if self._job is job:
                self._job = None
                self.show_notices(notices)

        def failed(error: BaseException) -> None:
            if self._job is job:
                self._job = None
                self.show_notices([Notice("look", f"The checks could not be done ({error}).")])

        job = self.desk.session.work.start("Checks", check, done, failed, "checks")
        self._job = job

    def show_notices(self, notices: list[Notice]) -> None:
        self.notices = notices
        while self.column.count() > 1:
            widget = self.column.takeAt(1).widget()
            widget.hide()
            widget.deleteLater()
        shown = list(notices[:MOST_SHOWN])
        if len(notices) > MOST_SHOWN:
            shown.append(Notice("look", f"{len(notices) - MOST_SHOWN} more notices."))
        for notice in shown:
            self.column.addWidget(self._line(notice))

    def _line(self, notice: Notice) -> QWidget:
        line = QWidget()
        row = QGridLayout(line)
        row.setContentsMargins(0, 0, 0, 0)
        row.setHorizontalSpacing(6)
        row.setVerticalSpacing(3)
        row.setColumnStretch(1, 1)
        text = Words(notice.sentence)
        text.setWordWrap(True)
        row.addWidget(Dot(notice.level), 0, 0, Qt.AlignmentFlag.AlignTop)
        row.addWidget(text, 0, 1)
        mend, place = notice.mend, notice.place
        buttons = QHBoxLayout()
        buttons.setSpacing(4)
        if place is not None:
            show = QPushButton("Show")
            show.setProperty("kind", "small")
            show.clicked.connect(lambda: self.viewing.go_to(place))
            buttons.addWidget(show)
        if mend is not None:
            button = QPushButton(mend.words)
            button.setProperty("kind", "small")
            button.clicked.connect(lambda: self.mend(mend))
            buttons.addWidget(button)
        if buttons.count():
            buttons.addStretch(1)
            row.addLayout(buttons, 1, 1)  # the sentence has the whole width
        return line

    def mend(self, mend: Mend) -> None:
        """Do what the button says: run an operation on what leads, or open its form."""
        operation = find_operation(mend.operation)
        if mend.ask:
            self._open(operation)
            return
        record = self.viewing.record
        given = dict(mend.settings)
        for p in operation.inputs:
            if (
                p.kind.family == "record"
                and p.name not in given
                and record is not None
                and p.role in ("image", "thing")
            ):
                given[p.name] = record.id
        self.desk.run(mend.operation, given, title=mend.words)
