"""The run of a recipe that is looked at: under way in a lane of its own, or over."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from dataclasses import replace
from typing import Any

from PySide6.QtCore import QObject, QTimer, Signal

from ...core.errors import Cancelled
from ...study.recipes import book as states
from ...study.recipes.book import RunBook
from ...study.recipes.cohort import Runner
from ...study.recipes.control import Control
from ...study.recipes.places import place_for
from .calm import BetweenGestures
from .recipe_choices import Choices
from .session import Session
from .work import Job


class RunInHand(QObject):
    """What is done may go on beside it: it takes in what it has made as anybody does, one step at a time."""

    moved = Signal()
    """It has gone on."""
    ended = Signal()
    _heard = Signal()

    def __init__(self, session: Session, parent: QObject):
        super().__init__(parent)
        self.session, self.study = session, session.study
        self.book: RunBook | None = None
        self.control: Control | None = None
        self.job: Job | None = None
        self._calm = BetweenGestures(session, self)
        self._tick = QTimer(self, singleShot=True, interval=120)
        self._tick.timeout.connect(self.moved)
        self._heard.connect(lambda: None if self._tick.isActive() else self._tick.start())

    @property
    def running(self) -> bool:
        return self.job is not None

    @property
    def paused(self) -> bool:
        return self.control is not None and self.control.paused

    @property
    def settled(self) -> bool:
        """Whether nothing that it said is still to be shown."""
        return not self._tick.isActive()

    def look_at(self, book: RunBook | None) -> None:
        """Another run is the one that is looked at, unless one is under way."""
        if not self.running:
            self.book = book if book is None or self.study.read_only else book.nobody_else()
            self.moved.emit()

    def go(self, title: str, choices: Choices, opened: Callable[[], RunBook], only: list[str] | None = None) -> None:
        """Go on with a book, with everybody or some."""
        study, control = self.study, Control()
        if self.running or not self.session.done(study.catalogue.require_writable):
            return
        self.control = control

        def work(progress):
            place = place_for(choices.workers, choices.cluster, study.folder, progress)
            book = opened()
            book.order = replace(book.order, where=place.words)
            book.heard = [lambda unit: self._heard.emit()]
            self.book = book
            self._calm.progress = progress
            with suppress(Cancelled):  # the book says who was stopped
                Runner(study, book, place, progress, control, only, self._calm).run()
            return book

        def over(_: Any = None) -> None:
            self.job = self.control = None
            if self.session.closed:
                return
            self.session.shelf_changed.emit()
            self.session.logbook_changed.emit()
            self.moved.emit()
            self.ended.emit()

        def failed(error: BaseException) -> None:
            over()
            self.session.work.tell(title, error)

        def done(book: RunBook) -> None:
            over()
            bad = [book.words(u) for u, _, _ in book.order.units if book.state(u) == states.FAILED]
            if bad:
                self.session.trouble.emit(f"{len(bad)} of {len(book.order.units)} failed: {', '.join(bad[:6])}.")

        self.job = self.session.work.start(title, work, done, failed, "run")
        self.moved.emit()

    def pause(self) -> None:
        """Have it wait when what is under way is done, or go on."""
        if self.control is not None:
            if self.control.paused:
                self.control.go_on()
            else:
                self.control.pause()
            self.moved.emit()

    def judge(self, unit: str, verdict: str) -> None:
        """What somebody who looked says of a unit of it."""
        if self.book is not None:
            book = self.book
            self.session.guarded(lambda: book.judge(unit, verdict))
            if not self.running:
                book.close()
            self.moved.emit()
