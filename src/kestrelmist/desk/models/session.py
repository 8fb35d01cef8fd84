"""What is done: the study, its history, and the work under way."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QObject, QThread, Signal

from ...core.errors import Asks, Partly, Trouble
from ...core.geometry.marks import MarkEdit
from ...core.kind import is_edited
from ...core.labels import LabelMap
from ...core.operation import find_operation
from ...core.patch import LabelEdit
from ...core.progress import silent
from ...core.table import Table
from ...study.inputs import NOTHING, Lead, pinned, settle
from ...study.journal.changes import Change
from ...study.journal.history import Stale
from ...study.journal.logbook import Step
from ...study.journal.stacks import Entry
from ...study.keeping import keep
from ...study.study import Study
from ...study.task import Made, Task, compute
from .following import Following
from .work import Job, Work, unexpected

MANY = 200
"""Things that are changed back and forth while the window waits."""


class Session(QObject):
    """The open study as the window works on it. Views read from it and never write to the study themselves."""

    things_changed = Signal(tuple)
    """Ids of the things that a step, undo or redo has changed."""
    shelf_changed = Signal()
    history_changed = Signal()
    logbook_changed = Signal()
    table_made = Signal(object)
    took_in = Signal(list)
    """Ids of things that have come onto the Shelf; an image among them is to be shown."""
    made_over = Signal(int, list)
    """An image, and ids of images made of it that are to be laid over it."""
    began = Signal(object, object)
    """A job that runs an operation has begun, with its task."""
    was_kept = Signal(object, dict)
    """What a task made was kept: the task, and the ids of what it made."""
    trouble = Signal(str)
    said = Signal(str)
    asked = Signal(object, object, dict)
    """An operation wants something looked at first: what, a function that runs it again with more settings, and the
    settings so far."""
    hand_changed = Signal(int)
    """An image that has another label map, or other marks, in hand, though nothing of it has changed."""
    _noticed = Signal(str)

    def __init__(self, study: Study, parent=None):
        super().__init__(parent)
        self.study, self.work = study, Work(self)
        self.work.trouble.connect(self.trouble)
        self.end_gesture: Callable[[], None] = lambda: None
        self.gestures: dict[int, int] = {}
        """How often a gesture was begun or ended on each image: odd while there is one. May be read from any thread."""
        self.closed = False
        study.history.finish_gesture = self._finish_gesture
        self.following = Following(
            (self._things_moved, self._shelf_moved, self._history_moved, self._logbook_moved), self
        )
        study.history.listeners.append(self.following.moved)  # may come from a worker's thread
        study.maps.listeners.append(self.hand_changed.emit)
        study.marks.listeners.append(self.hand_changed.emit)
        study.on_notice = self._noticed.emit
        self._noticed.connect(lambda text: self.trouble.emit(f"{text}."))

    def _finish_gesture(self) -> None:
        # a worker that takes images in has nothing to do with what the hand holds
        if QThread.currentThread() is self.thread():
            self.end_gesture()

    def _things_moved(self, items: tuple[int, ...]) -> None:
        if not self.closed:
            self.things_changed.emit(items)

    def _shelf_moved(self, items: tuple[int, ...]) -> None:
        if not self.closed:
            records = [self.study.items.get(item) for item in items]
            if any(r is None or not is_edited(r.kind) or r.removed for r in records):
                self.shelf_changed.emit()

    def _history_moved(self, items: tuple[int, ...]) -> None:
        if not self.closed:
            self.history_changed.emit()

    def _logbook_moved(self, items: tuple[int, ...]) -> None:
        if not self.closed:
            self.logbook_changed.emit()

    def guarded(self, do: Callable[[], Any]) -> Any:
        """Do something at once; a Trouble is shown as a sentence, and None comes back."""
        try:
            return do()
        except Trouble as trouble:
            self.trouble.emit(str(trouble))
        except Exception as error:
            self.trouble.emit(unexpected("This step", error))
        return None

    def done(self, do: Callable[[], Any]) -> bool:
        """Do something at once that gives nothing back; whether it was done."""

        def told() -> bool:
            do()
            return True

        return bool(self.guarded(told))

    # history

    def undo(self) -> Entry | None:
        """Take back the last entry; given back when that goes on in a worker."""
        return self._turn("Undo", self.study.history.to_undo(), self.study.history.undo)

    def redo(self) -> Entry | None:
        """Do again what was taken back last; as `undo`."""
        return self._turn("Redo", self.study.history.to_redo(), self.study.history.redo)

    def _turn(self, words: str, entry: Entry | None, turn: Callable[..., Any]) -> Entry | None:
        """At once; an entry of very many things, such as a folder that was taken in, in a worker."""
        if entry is None or len(entry.items) <= MANY:
            self.guarded(turn)
            return None
        self.end_gesture()
        self.work.start(f"{words} “{entry.title}”", lambda progress: turn(only=entry))
        return entry

    @property
    def undo_title(self) -> str | None:
        entry = self.study.history.to_undo()
        return None if entry is None else entry.title

    @property
    def redo_title(self) -> str | None:
        entry = self.study.history.to_redo()
        return None if entry is None else entry.title

    def change(self, changes: list[Change], step: Step | None = None, title: str = "") -> bool:
        """Do changes as one step that can be undone; returns whether they were kept."""
        return self.guarded(lambda: self.study.history.do(changes, step, title)) is not None

    # operations

    def run(
        self,
        operation: str,
        given: dict[str, Any],
        done: Callable[[Any], Any] | None = None,
        title: str | None = None,
        over: int | None = None,
        again: bool = False,
        lead: Lead = NOTHING,
        into: int = 0,
    ) -> Job | None:
        """Run an operation through a worker and keep what it makes; `done` gets what a person asked for. An image that
        it makes is laid over the image `over`, or else shown. `again` says that labels have changed under it once, and
        `lead` what goes where nothing is named. `into` is an entry of the history that it is undone with, where that is
        still the last one."""
        about = find_operation(operation)
        try:
            if about.acts or any(not r.kind.is_read for r in about.results):
                self.study.catalogue.require_writable()
            task = settle(self.study, operation, given, lead)
        except Trouble as trouble:
            self.trouble.emit(str(trouble))
            return None
        if about.acts and not about.slow:
            self._act(task, done)
            return None

        def made(result: Made) -> None:
            self._made(task, given, result, done, title, over, lead, into)

        def work(progress):
            return compute(self.study, task, progress, prepare=not self.study.read_only)

        def go_on(more: dict[str, Any]) -> None:
            self.run(operation, {**given, **more}, done, title, over, lead=lead, into=into)

        def failed(error: BaseException) -> None:
            if isinstance(error, Asks) and not self.closed:
                self.asked.emit(error, go_on, given)
                return
            if isinstance(error, Partly) and not self.closed:  # what was done is shown all the same
                self._show(error.done, None)
            self.work.tell(title or task.title, error)

        edits_labels = again or is_edited(about.edits) or any(is_edited(r.kind.alters) for r in about.results)
        if edits_labels:
            self.end_gesture()
        # what acts on the study is waited for: it may be in the midst of changing it
        left = None if about.acts else Made.drop
        job = self.work.start(title or task.title, work, made, failed, left=left)
        job.edits_labels = edits_labels
        self.began.emit(job, task)
        return job

    def run_now(self, operation: str, given: dict[str, Any], lead: Lead = NOTHING) -> bool:
        """Run an operation that takes no time at once, in the window's thread; returns whether it was kept."""

        def do() -> bool:
            self.end_gesture()  # what it did comes first
            task = settle(self.study, operation, given, lead)
            self._show(keep(self.study, task, compute(self.study, task, silent())), None)
            return True

        return bool(self.guarded(do))

    def _act(self, task: Task, done: Callable[[Any], Any] | None) -> None:
        made = self.guarded(lambda: compute(self.study, task, silent()))
        if made is not None:
            self._show(made.values, done)

    def _made(
        self,
        task: Task,
        given: dict[str, Any],
        made: Made,
        done,
        title: str | None,
        over: int | None,
        lead: Lead,
        into: int,
    ) -> None:
        if self.closed:
            made.drop()
            return
        try:
            kept = keep(self.study, task, made, into)
        except Stale:
            # undone, locked or painted meanwhile: what was made fits a state that is no more, so it is made anew
            self.run(task.operation, given | pinned(self.study, task), done, title, over, True, lead, into)
            return
        except Trouble as trouble:
            self.trouble.emit(str(trouble))
            return
        self._show(kept, done, over)
        self.was_kept.emit(task, kept)

    def _show(self, kept: dict[str, Any], done, over: int | None = None) -> None:
        made = [value for value in kept.values() if isinstance(value, list) and value]
        for value in kept.values():
            if isinstance(value, Table):
                self.table_made.emit(value)
        for value in made[:1]:  # the first result is what was asked for; others come beside it
            if over is not None:
                self.made_over.emit(over, value)
            else:
                self.took_in.emit(value)
        self.shelf_changed.emit()
        self.logbook_changed.emit()
        if done:
            done(kept if len(kept) != 1 else next(iter(kept.values())))

    # labels

    def keep_stroke(self, labels: LabelMap, edit: LabelEdit, step: Step) -> bool:
        """Keep what the gesture that is being ended has drawn on a label map; returns whether it was kept."""
        if edit.empty:
            return True
        keep_it = self.study.maps.keep_edit
        return self.guarded(lambda: keep_it(labels, edit, True, step, end_gesture=False)) is not None

    def keep_marks(self, target: int, edit: MarkEdit, step: Step, image: bool = False) -> tuple[int, MarkEdit] | None:
        """Keep what was drawn on marks, or on an image that has none yet; None when it was not kept."""
        keep_it = self.study.marks.keep_edit
        return self.guarded(lambda: keep_it(target, edit, step, image, end_gesture=False))

    def require_labels_free(self) -> None:
        """Raises Trouble while a worker is busy with labels: a stroke and an operation may not change them at once."""
        job = next((j for j in self.work.jobs if j.edits_labels), None)
        if job:
            raise Trouble(f"“{job.title}” is still at work on the labels", "wait a moment, or cancel it above")

    def take_off(self, keys: list[int]) -> None:
        """Take several things off the Shelf, as one step."""
        if self.done(lambda: self.study.set_removed(keys, True)):
            self.shelf_changed.emit()

    def delete(self, key: int, name: str) -> bool:
        """Delete a thing for good."""

        def do() -> bool:
            self.study.catalogue.require_writable()
            self.require_labels_free()
            self.study.delete(key, name)
            return True

        kept = bool(self.guarded(do))
        if kept:
            self.following.moved((key,))
        return kept

    def close(self) -> None:
        """End the gesture in hand, stop the work, fold the journals. Raises Trouble when the last of these fails."""
        self.end_gesture()
        self.closed = True
        self.work.close()
        self.study.close()
