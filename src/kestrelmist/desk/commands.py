"""Commands that can be undone."""

from __future__ import annotations

from PySide6.QtGui import QUndoCommand

from ..core.errors import Trouble
from ..core.patch import LabelEdit
from ..study.logbook import Step


class EditLabels(QUndoCommand):
    """A change to the label map of an image.

    The first redo is the doing itself: `applied` says that the hand has painted it already, and `step` is its line in the
    logbook. A step that cannot be written
    to the study (full disk, read-only) makes itself obsolete, so the stack forgets it.
    """

    def __init__(self, desk, record_id: int, edit: LabelEdit, applied: bool = False, step: Step | None = None):
        super().__init__(edit.title)
        self.desk, self.record_id, self.edit, self.applied, self.step = desk, record_id, edit, applied, step

    def redo(self) -> None:
        self._do(self.edit, self.applied, self.step)
        self.applied, self.step = False, None

    def undo(self) -> None:
        self._do(self.edit.reversed(), False)

    def _do(self, edit: LabelEdit, applied: bool, step: Step | None = None) -> None:
        try:
            self.desk.study.keep_edit(self.record_id, edit, applied, step)
        except Trouble as trouble:
            self.setObsolete(True)
            self.desk.trouble.emit(str(trouble))
        self.desk.labels_edited(self.record_id)


class ShelveImages(QUndoCommand):
    """Images that were taken in or made: undo takes them off the Shelf, redo puts them back."""

    def __init__(self, desk, ids: list[int], title: str, remove: bool = False):
        super().__init__(title)
        self.desk, self.ids, self.remove, self.first = desk, ids, remove, not remove

    def redo(self) -> None:
        if not self.first:
            self._set(self.remove)
        self.first = False

    def undo(self) -> None:
        self._set(not self.remove)

    def _set(self, removed: bool) -> None:
        try:
            for key in self.ids:
                self.desk.study.set_removed(key, removed)
        except Trouble as trouble:
            self.setObsolete(True)
            self.desk.trouble.emit(str(trouble))
        self.desk.shelf_edited()
