"""The marks of a study's images: which there are, which are worked on, and what is held in memory of them."""

from __future__ import annotations

import sqlite3
import threading
from collections.abc import Callable

from ..core.class_table import ClassRow
from ..core.errors import Trouble
from ..core.geometry.marks import MarkEdit, Marks
from ..core.space import Space
from .in_hand import InHand
from .items import Record
from .journal.changes import Change
from .journal.logbook import Step
from .open_study import OpenStudy
from .stores.marks import FILE_EVERY, MARKS, MarkChange, blank_marks


class MarkSets(InHand):
    """Marks by their ids. Whoever draws says which marks and which numbers; what is in hand meanwhile makes no
    difference."""

    kind, remembered = MARKS.kind, "marks in hand"

    def __init__(self, study: OpenStudy):
        super().__init__(study)
        self._there: dict[int, tuple[Marks, Space | None]] = {}
        """With the place of their image that positions count at."""
        self._lock = threading.RLock()

    def on(self, image: int) -> Marks:
        """The marks in hand of an image, or none yet."""
        key = self.in_hand(image)
        return blank_marks(self.study.find(image)) if key is None else self.open(key)

    def in_memory(self, key: int) -> Marks | None:
        """Marks if they are in memory."""
        found = self._there.get(key)
        return None if found is None else found[0]

    def open(self, key: int) -> Marks:
        """Marks by their id, as they are now."""
        record = self.items.get(key)
        if record is None or record.kind != self.kind:
            raise Trouble(f"There are no marks with the id {key} in this study", "choose some of the list")
        with self._lock:
            found = self._there.get(key)
            if found is None:
                marks = MARKS.open(self.study, record)
                if not self.study.read_only and MARKS.waiting(self.study, record) > FILE_EVERY:
                    MARKS.fold(self.study, record, marks)
                found = self._there[key] = marks, record.space
            return found[0]

    def class_colours(self, marks: Marks) -> tuple[tuple[int, str], ...]:
        """Colours of the classes that marks point to, by number; none when their class table has gone."""
        return tuple((row.number, row.colour) for row in self._classes(marks))

    def class_names(self, marks: Marks) -> dict[int, str]:
        """What the classes that marks point to are called, by number; none when their class table has gone."""
        return {row.number: row.name for row in self._classes(marks)}

    def _classes(self, marks: Marks) -> list[ClassRow]:
        record = None if marks.classes is None else self.items.get(marks.classes)
        if record is None or record.removed:
            return []
        try:
            return list(self.study.thing(record.id))
        except Trouble:
            return []

    # what happens to them

    def edited(self, key: int, edit: MarkEdit) -> None:
        """An edit is written: what is in memory follows."""
        with self._lock:
            if key in self._there:
                marks, space = self._there[key]
                self._there[key] = marks.with_edit(edit), space

    def refresh(self, key: int) -> None:
        """The row of marks has changed: they have another name, or lie elsewhere with their image."""
        record = self.items.get(key)
        with self._lock:
            if key in self._there and record is not None:
                self._there[key] = MARKS.as_placed(self._there[key][0], record, self._there[key][1]), record.space

    def forget(self, *keys: int) -> None:
        """Forget what is in memory of some, or of all when none are named."""
        with self._lock:
            if not keys:
                self.choices_again()
                self._there.clear()
            for key in keys:
                self._there.pop(key, None)

    def fold(self) -> None:
        """Write what was drawn since into files."""
        for key in list(self._there):
            record = self.items.get(key)
            if record is not None:
                MARKS.fold(self.study, record, self.open(key))

    # what is kept

    def make(self, db: sqlite3.Connection, image: int, name: str = "Marks") -> int:
        """The row of marks that were not there up to now, inside the transaction of their first edit."""
        record = self.study.find(image)
        free = self.items.free_name(name, self.kind, record.subject, image)
        key = self.items.insert(db, Record(0, self.kind, record.subject, free, image, record.grid, "", {}))
        self.choose(image, key)
        return key

    def keep_edit(
        self, target: int, edit: MarkEdit, step: Step | None = None, image: bool = False, end_gesture: bool = True
    ) -> tuple[int, MarkEdit]:
        """Journal an edit of marks and apply it.

        Parameters
        ----------
        target : int
            Id of the marks; of the image, when `image` says so, for the first ones on it.
        edit : MarkEdit
            What others have added meanwhile stays: what it adds gets numbers that are free.

        Returns
        -------
        The id of the marks, and the edit as it was kept.

        Raises
        ------
        Trouble
            When the marks are gone, a mark that it changes has changed meanwhile, or the study cannot be written.
        """
        kept: list[tuple[int, MarkEdit]] = []

        def change(db: sqlite3.Connection) -> tuple[list[Change], Step | None]:
            key = self.in_hand(target) if image else target
            if key is None:
                key = self.make(db, target)
            record = self.items.get(key)
            if record is None:
                raise Trouble("These marks have been deleted, so this step was not kept", "choose others")
            own = edit.anew(self.open(key))
            kept.append((key, own))
            return [MarkChange(key, own)], step

        try:
            self.study.history.do(change, None, edit.title, end_gesture=end_gesture)
        except BaseException:
            for key, _ in kept:
                self.forget(key)
            raise
        return kept[0]

    def replaced(self, key: int, title: str, change: Callable[[Marks], MarkEdit], step: Step | None = None) -> None:
        """Change marks by a function of what they are now."""
        self.keep_edit(key, change(self.open(key)), step)
