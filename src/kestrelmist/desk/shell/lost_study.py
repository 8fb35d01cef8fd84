"""When the study itself is in trouble: its folder has gone while it is open, or its catalogue is missing or damaged."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QFileDialog, QMessageBox, QWidget

from ...core.errors import Asks
from ...study.catalogue_trouble import Damaged, Remains
from ...study.elsewhere import save_elsewhere
from ...study.rebuild import rebuild
from ...study.study import Study
from ..models.session import Session
from ..widgets.plain_text import message_box


def study_at(folder: Path, parent: QWidget | None = None) -> Study | None:
    """The study in a folder, made when the folder is free. One whose catalogue is missing or damaged is rebuilt when
    the person wants it; None when not."""
    try:
        return Study(folder, create=True)
    except (Remains, Damaged) as trouble:
        more = (
            f"{folder}\n\nIt can be rebuilt from what can still be read and from the files of the images and label"
            " maps. What is there now stays beside; no image and no label map is touched. Close the study in other"
            " windows first."
        )
        if not _wanted(parent, f"{trouble.what}.", more, "Rebuild it"):
            return None
    try:
        table = rebuild(folder)
    except Asks as asks:
        lost = "\n".join(f"{what}: {why}" for what, why in asks.table.rows)
        if not _wanted(parent, f"{asks.what}.", f"{lost}\n\nIs there a backup?", "Rebuild it all the same"):
            return None
        table = rebuild(folder, "accept")
    study = Study(folder)
    found = [f"{count} {what.removesuffix('s') if count == 1 else what} {where}" for what, where, count in table.rows]
    study.notices.append(f"The study was rebuilt: {', '.join(found)}")
    return study


def _wanted(parent: QWidget | None, what: str, more: str, words: str) -> bool:
    question = message_box(parent, what, more)
    wanted = question.addButton(words, QMessageBox.ButtonRole.AcceptRole)
    question.addButton("Leave it", QMessageBox.ButtonRole.RejectRole)
    question.exec()
    return question.clickedButton() is wanted


class GoneWatch(QObject):
    """Notices that the study's files have gone, says so once, and saves what is in memory elsewhere."""

    saved = Signal(object)
    """The folder that everything was saved to."""

    def __init__(self, session: Session, window: QWidget):
        super().__init__(window)
        self.session, self.window_, self.question, self._told = session, window, None, False
        session.trouble.connect(self._look)

    @property
    def gone(self) -> bool:
        """Whether closing the window would lose something."""
        return not self.session.study.read_only and not self.session.study.catalogue.there

    def _look(self, _: str) -> None:
        if self.gone and not self._told:
            self._told = True
            self.ask()

    def ask(self, leave: Callable[[], object] | None = None) -> None:
        """Ask what is to be done; `leave` is offered beside saving when the window is about to close."""
        if self.question is not None:
            return
        question = self.question = message_box(
            self.window_,
            f"The study “{self.session.study.name}” is no longer where it was opened.",
            "Everything up to the last step is in memory as long as this window is open. Bring the folder or its disk"
            " back, or save the study elsewhere.",
        )
        save = question.addButton("Save elsewhere…", QMessageBox.ButtonRole.AcceptRole)
        close = question.addButton("Close and lose it", QMessageBox.ButtonRole.DestructiveRole) if leave else None
        question.addButton("Not now", QMessageBox.ButtonRole.RejectRole)

        def answered(_: int) -> None:
            clicked, self.question = question.clickedButton(), None
            question.deleteLater()
            if clicked is save:
                self._choose()
            elif close is not None and clicked is close and leave is not None:
                leave()

        question.finished.connect(answered)
        question.open()

    def _choose(self) -> None:
        name, _ = QFileDialog.getSaveFileName(
            self.window_, "A new folder for the study", str(Path.home() / self.session.study.name)
        )
        if name:
            self.save(Path(name))

    def save(self, folder: Path) -> None:
        """Save everything into a new folder, beside the window."""
        study = self.session.study

        def done(lost: list[str]) -> None:
            if lost:
                names = ", ".join(f"“{name}”" for name in lost[:5])
                self.session.trouble.emit(f"Saved, but the files of {names} had gone with the folder.")
            self.saved.emit(folder)

        self.session.work.start("Saving elsewhere", lambda progress: save_elsewhere(study, folder, progress), done)
