"""The six stages on a line: the one in force, and those in which something was done for what leads."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QPointF, QRectF, Qt, QTimer
from PySide6.QtGui import QColor, QFont, QHelpEvent, QPainter, QPen
from PySide6.QtWidgets import QSizePolicy, QToolTip, QWidget

from ...study.journal.stages_done import StagesDone
from ..models.desk_model import STAGES, Desk
from ..models.work import Job
from ..theme.theme import Theme, words
from ..widgets.plain_text import plain_tip

FIRST, REST = 1500, 120
"""Milliseconds until it is looked up what was done: the first time, and after a change."""


class StagePath(QWidget):
    """Six stops on a line. Always free to jump; the one in force is the large ring, those that are filled have been
    gone through with what leads."""

    def __init__(self, desk: Desk, parent=None):
        super().__init__(parent)
        self.desk = desk
        self.stage = desk.viewing.stage
        self.done: frozenset[str] = frozenset()
        self._over: int | None = None
        self._stages_done = StagesDone(desk.study)
        self._asked: Job | None = None
        self._again = False
        # not while the window starts, as it loads all operations; then when strokes, which follow each other, rest
        self._soon = QTimer(self, singleShot=True, interval=FIRST)
        self._soon.timeout.connect(self._ask)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setMinimumWidth(400)
        self.setMaximumWidth(600)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setAccessibleName("Path: " + ", ".join(STAGES))
        desk.viewing.stage_changed.connect(self._follow)
        for signal in (desk.viewing.lead_changed, desk.session.history_changed, desk.session.shelf_changed):
            signal.connect(self._change)
        self._soon.start()

    def _change(self, *_) -> None:
        if self._soon.interval() == REST or not self._soon.isActive():
            self._soon.start()

    def _follow(self) -> None:
        self.stage = self.desk.viewing.stage
        self.update()

    # what has been gone through

    def _ask(self) -> None:
        """Look it up beside the window: a long logbook takes a moment the first time."""
        self._soon.setInterval(REST)
        record = self.desk.viewing.record
        if self._asked is not None:
            self._again = True
        elif record is None:
            self._show(frozenset())
        else:
            self._asked = self.desk.session.work.start(
                "Stages", lambda progress: self._stages_done.of(record), self._found, self._failed, "checks", owner=self
            )

    def _found(self, done: frozenset[str]) -> None:
        self._asked = None
        self._show(frozenset(stage for stage in STAGES if stage.lower() in done))
        if self._again:
            self._again = False
            self._soon.start()

    def _failed(self, error: BaseException) -> None:
        """A study that has gone says so itself."""
        self._asked = None

    def _show(self, done: frozenset[str]) -> None:
        self.done = done
        self.setAccessibleDescription(" ".join(self.told(stage) for stage in STAGES))
        self.update()

    def told(self, stage: str) -> str:
        """What is to be said of a stage, in a sentence."""
        record = self.desk.viewing.record
        if record is None:
            return f"{stage}."
        return f"{stage}: {'something was' if stage in self.done else 'nothing was'} done for “{record.name}”."

    # what is seen

    def stop(self, stage: str) -> QPointF:
        """Where a stage's ring is."""
        step = self.width() / len(STAGES)
        return QPointF((STAGES.index(stage) + 0.5) * step, 18)

    def paintEvent(self, event) -> None:
        t = Theme.tokens
        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            here = STAGES.index(self.stage)
            for n, stage in enumerate(STAGES):
                at, done = self.stop(stage), stage in self.done
                if n:
                    both = done and STAGES[n - 1] in self.done
                    painter.setPen(QPen(QColor(t.rust if both else t.hairline), 2))
                    painter.drawLine(self.stop(STAGES[n - 1]) + QPointF(10, 0), at - QPointF(10, 0))
                painter.setPen(QPen(QColor(t.rust if done or n == here else t.soft), 2))
                painter.setBrush(QColor(t.rust_tint if n == here else t.rust if done else t.panel))
                radius = 8 if n == here else 5.5
                painter.drawEllipse(at, radius, radius)
                if done and n == here:
                    painter.setBrush(QColor(t.rust))
                    painter.drawEllipse(at, 3, 3)
                painter.setFont(words(13, QFont.Weight.Bold if n == here else QFont.Weight.DemiBold))
                painter.setPen(QColor(t.ink if n == here or n == self._over else t.soft))
                painter.drawText(QRectF(at.x() - 50, 28, 100, 20), Qt.AlignmentFlag.AlignCenter, stage)
            if self.hasFocus():
                painter.setPen(QPen(QColor(t.rust), 1, Qt.PenStyle.DotLine))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawRect(self.rect().adjusted(1, 1, -2, -2))

    # what a hand does

    def event(self, event) -> bool:
        if event.type() == QEvent.Type.ToolTip and isinstance(event, QHelpEvent):
            told = self.told(STAGES[self._stage_at(event.pos().x())])
            QToolTip.showText(event.globalPos(), plain_tip(told), self)
            return True
        return super().event(event)

    def _stage_at(self, x: float) -> int:
        return max(0, min(len(STAGES) - 1, int(x / self.width() * len(STAGES))))

    def mousePressEvent(self, event) -> None:
        self.desk.viewing.set_stage(STAGES[self._stage_at(event.position().x())])

    def mouseMoveEvent(self, event) -> None:
        self._over = self._stage_at(event.position().x())
        self.update()

    def leaveEvent(self, event) -> None:
        self._over = None
        self.update()

    def keyPressEvent(self, event) -> None:
        step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(event.key())
        if step:
            self.desk.viewing.set_stage(STAGES[(STAGES.index(self.stage) + step) % len(STAGES)])
        else:
            super().keyPressEvent(event)
