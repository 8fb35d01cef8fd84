"""The bar at the top: the study, the six stages, long work, undo, and the way into the Finder."""

from __future__ import annotations

from PySide6.QtCore import QSize, Qt, QTimer, Signal
from PySide6.QtWidgets import (
    QHBoxLayout,
    QProgressBar,
    QPushButton,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from ...core.waiting import waiting_sentence
from ..models.desk_model import Desk
from ..theme.theme import icon, mark
from ..widgets.plain_text import Words, plain_tip
from .stage_path import StagePath


class WorkBar(QWidget):
    """What is being done, how far it is, how long it will take, and Cancel."""

    def __init__(self, desk: Desk, parent=None):
        super().__init__(parent)
        self.work = desk.session.work
        self.title, self.bar, self.cancel = Words(), QProgressBar(), QToolButton()
        self.title.setProperty("kind", "soft")
        self.bar.setRange(0, 1000)
        self.bar.setTextVisible(False)
        self.cancel.setToolTip("Cancel")
        self.cancel.setAccessibleName("Cancel the work")
        self.cancel.clicked.connect(self._cancel)
        column = QVBoxLayout()
        column.setSpacing(3)
        column.addWidget(self.title)
        column.addWidget(self.bar)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 6, 0, 8)
        row.addLayout(column)
        row.addWidget(self.cancel)
        self.setFixedWidth(190)
        # quick jobs should not make the bar flash
        self._late = QTimer(self, singleShot=True, interval=200)
        self._late.timeout.connect(self._show)
        self.work.changed.connect(self._follow)
        self.dress()
        self._visible(False)

    def dress(self) -> None:
        self.cancel.setIcon(icon("x", 16))

    def _visible(self, on: bool) -> None:
        for widget in (self.title, self.bar, self.cancel):
            widget.setVisible(on)

    def _follow(self) -> None:
        if self.work.current is None:
            self._late.stop()
            self._visible(False)
        elif self.bar.isVisible():
            self._show()
        elif not self._late.isActive():
            self._late.start()

    def _show(self) -> None:
        job = self.work.current
        if job is None:
            return
        left = job.progress.seconds_left()
        text = job.title if left is None else f"{job.title} · {left:.0f} s left"
        text = text if job.waits_for is None else f"{job.waits_for.name} gives nothing"
        self.title.setText(self.title.fontMetrics().elidedText(text, Qt.TextElideMode.ElideMiddle, 150))
        more = "" if job.waits_for is None else f"\n{waiting_sentence(job.waits_for)} Cancel goes on without it."
        self.title.setToolTip(plain_tip(text + more))
        self.bar.setValue(int(1000 * job.progress.fraction))
        self._visible(True)

    def _cancel(self) -> None:
        if self.work.current:
            self.work.current.progress.cancel()


class PathBar(QWidget):
    """52 px over the whole window."""

    find = Signal()

    def __init__(self, desk: Desk, parent=None):
        super().__init__(parent)
        self.setObjectName("path")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(52)
        self.desk = desk
        self.mark, self.study, self.state = Words(), Words(), Words()
        self.study.setProperty("kind", "title")
        self.state.setProperty("kind", "soft")
        names = QVBoxLayout()
        names.setSpacing(0)
        names.addStretch()
        names.addWidget(self.study)
        names.addWidget(self.state)
        names.addStretch()
        self.stages, self.work = StagePath(desk), WorkBar(desk)
        self.undo, self.redo = QToolButton(), QToolButton()
        session = desk.session
        for button, words_, stack in ((self.undo, "Undo", desk.undoing.undo), (self.redo, "Redo", desk.undoing.redo)):
            button.setProperty("kind", "button")
            button.setAccessibleName(words_)
            button.setFixedSize(34, 28)
            button.clicked.connect(stack)
            button.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.finder = QPushButton("Find a tool   Ctrl+K")
        self.finder.clicked.connect(self.find)
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 0, 12, 0)
        row.setSpacing(8)
        row.addWidget(self.mark)
        row.addLayout(names)
        row.addStretch(1)
        row.addWidget(self.stages, 8)
        row.addStretch(1)
        row.addWidget(self.work)
        row.addWidget(self.undo)
        row.addWidget(self.redo)
        row.addWidget(self.finder)
        desk.undoing.changed.connect(self._undo_state)
        self._soon = QTimer(self, singleShot=True, interval=0)  # once, whatever moves together
        self._soon.timeout.connect(self._name)
        for signal in (session.shelf_changed, session.history_changed, session.trouble):
            signal.connect(lambda *_: self._soon.start())
        self.dress()
        self._name()
        self._undo_state()

    def dress(self) -> None:
        """Put on the icons of the theme in force."""
        self.mark.setPixmap(mark(28))
        self.undo.setIcon(icon("undo-2", 16))
        self.redo.setIcon(icon("redo-2", 16))
        self.finder.setIcon(icon("search", 15))
        self.finder.setIconSize(QSize(15, 15))
        self.work.dress()

    def _name(self) -> None:
        study = self.desk.study
        self.study.setText(study.name)
        animals = len(study.subjects())
        state = "all changes kept" if study.catalogue.there else "the study has gone: nothing is kept"
        state = f"read only: {study.catalogue.why_read_only}" if study.read_only else state
        self.state.setText(f"{animals} subject{'' if animals == 1 else 's'} · {state}")

    def _undo_state(self) -> None:
        undo, redo = self.desk.undoing.undo_title, self.desk.undoing.redo_title
        self.undo.setEnabled(undo is not None)
        self.redo.setEnabled(redo is not None)
        self.undo.setToolTip(plain_tip(f"Undo: {undo} (Ctrl+Z)" if undo else "Nothing to undo"))
        self.redo.setToolTip(plain_tip(f"Redo: {redo} (Ctrl+Shift+Z)" if redo else "Nothing to redo"))
