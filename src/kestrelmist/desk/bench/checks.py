"""The Checks at the foot of the Bench: a sentence each, and a button that mends it."""

from __future__ import annotations

from PySide6.QtCore import QPointF, Qt, QTimer
from PySide6.QtGui import QColor, QPainter, QPolygonF
from PySide6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from ...checks.notice import Mend, Notice, Subject, run_checks
from ...operations import find_operation
from ..commands import ShelveImages
from ..desk_model import Desk
from ..theme.theme import Theme
from .rows import section

MARKS = {"look": "amber", "wrong": "red", "fine": "moss"}


class Dot(QWidget):
    """A mark by level: triangle to look here, square for wrong, disc for fine, so that colour is not alone."""

    def __init__(self, level: str):
        super().__init__()
        self.level = level
        self.setFixedSize(14, 18)
        self.setAccessibleName({"look": "Look here", "wrong": "Wrong", "fine": "Fine"}[level])

    def paintEvent(self, event) -> None:
        painter = QPainter(self)
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
    """Runs the checks of the present stage in a worker whenever something has changed and the hand rests."""

    def __init__(self, desk: Desk, open_operation):
        super().__init__()
        self.desk, self.notices, self._job, self._open = desk, [], None, open_operation
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(0, 0, 0, 0)
        self.column.setSpacing(5)
        self.column.addWidget(section("Checks"))
        self._soon = QTimer(self, singleShot=True, interval=500)
        self._soon.timeout.connect(self._run)
        for signal in (desk.labels_changed, desk.image_changed, desk.stage_changed):
            signal.connect(self._later)

    @property
    def settled(self) -> bool:
        return not self._soon.isActive() and self._job is None

    def _later(self) -> None:
        if self._job is not None:
            self._job.progress.cancel()
        self._soon.start()

    def _run(self) -> None:
        desk = self.desk
        if not desk.ready:
            self.show_notices([])
            return
        stage, image, labels, series, records, record = desk.stage.lower(), desk.image, desk.labels, desk.series, desk.study.records(), desk.record.id

        def check(progress):
            return run_checks(Subject(image, labels, progress.stop, series, records, record), stage)

        def done(notices):
            if self._job is job:
                self._job = None
            if desk.image is image:
                self.show_notices(notices)

        def failed(error):
            if self._job is job:
                self._job = None
            if not self._soon.isActive():
                self._soon.start()

        job = desk.work.start("Checks", check, done, failed, loud=False)
        self._job = job

    def show_notices(self, notices: list[Notice]) -> None:
        self.notices = notices
        while self.column.count() > 1:
            widget = self.column.takeAt(1).widget()
            widget.hide()
            widget.deleteLater()
        for notice in notices:
            self.column.addWidget(self._line(notice))

    def _line(self, notice: Notice) -> QWidget:
        line = QWidget()
        row = QHBoxLayout(line)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(6)
        text = QLabel(notice.sentence)
        text.setWordWrap(True)
        row.addWidget(Dot(notice.level), 0, Qt.AlignmentFlag.AlignTop)
        row.addWidget(text, 1)
        if notice.mend:
            button = QPushButton(notice.mend.words)
            button.setProperty("kind", "small")
            button.clicked.connect(lambda: self.mend(notice.mend))
            row.addWidget(button, 0, Qt.AlignmentFlag.AlignTop)
        return line

    def mend(self, mend: Mend) -> None:
        """Do what the button says."""
        desk = self.desk
        if mend.operation == "new-labels":
            desk.start_labels()
        elif mend.operation == "take-off":
            desk.undo.push(ShelveImages(desk, [desk.record.id], f"Take “{desk.record.name}” off the Shelf", remove=True))
        elif mend.ask:
            self._open(find_operation(mend.operation))
        else:
            desk.run(mend.operation, mend.settings, title=mend.words)
