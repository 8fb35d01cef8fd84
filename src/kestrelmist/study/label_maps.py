"""The label maps of a study's images: which there are, which is worked on, and what is held in memory of them."""

from __future__ import annotations

import sqlite3
import threading
import weakref
from contextlib import suppress
from typing import Any

from ..core.budget import BUDGET
from ..core.errors import Trouble
from ..core.labels import LabelMap
from ..core.patch import LabelEdit
from .in_hand import InHand
from .items import Record
from .journal.changes import Change, LabelChange
from .journal.logbook import Step
from .open_study import OpenStudy
from .stores.label_maps import FILE_EVERY, LABELS, NO_MAP


class LabelMaps(InHand):
    """One object a map, whoever works on it; an image without labels has a blank one, which becomes a thing of the
    study with the first edit. Whoever edits holds the object: which map is in hand meanwhile makes no difference.
    """

    kind, remembered = LABELS.kind, "labels in hand"

    def __init__(self, study: OpenStudy):
        super().__init__(study)
        self._there: weakref.WeakValueDictionary[int, LabelMap] = weakref.WeakValueDictionary()
        self._keys: weakref.WeakKeyDictionary[LabelMap, int] = weakref.WeakKeyDictionary()
        self._opening = threading.RLock()
        """Held while a map is opened: two threads must not get two objects of one map."""
        self._held: dict[int, LabelMap] = {}
        self._blank: weakref.WeakValueDictionary[int, LabelMap] = weakref.WeakValueDictionary()
        """As long as somebody looks at them: of hundreds of images each has one, as large as itself."""

    # what is in memory

    def on(self, image: int) -> LabelMap:
        """The label map in hand of an image, or its blank one."""
        key = self.in_hand(image)
        return self.blank(image) if key is None else self.open(key)

    def blank(self, image: int) -> LabelMap:
        """The label map of an image that is still to be made."""
        with self._opening:
            labels = self._blank.get(image)
            if labels is None:
                record = self.study.find(image)
                self._blank[image] = labels = LabelMap(record.grid, name=NO_MAP, subject=record.subject)
            return labels

    def open(self, key: int) -> LabelMap:
        """A label map by its id. The same object is given as long as anybody holds it."""
        record = self.items.get(key)
        if record is None:
            raise Trouble(f"There is no label map with the id {key} in this study", "choose one of the list")
        found = self.in_memory(key)
        if found is None:
            with self._opening:
                found = self.in_memory(key) or self._read(record)
        self.hold(key, found)
        return found

    def _read(self, record: Record) -> LabelMap:
        labels = LABELS.open(self.study, record)
        if not self.study.read_only and LABELS.waiting(self.study, record) > FILE_EVERY:
            with suppress(Trouble):  # the journal has it all; a file is tried again at the end
                LABELS.fold(self.study, record, labels)
        self.hold(record.id, labels)
        return labels

    def hold(self, key: int, labels: LabelMap) -> None:
        """Keep a label map in memory while there is room; what has just been made is known by its object from now."""
        self._there[key] = self._held[key] = labels
        self._keys[labels] = key
        BUDGET.use(labels, labels.memory, lambda _: self._let_go(key))

    def _let_go(self, key: int) -> None:
        # not folded: a stroke that is not journalled yet must not get into the file
        self._held.pop(key, None)

    def in_memory(self, key: int) -> LabelMap | None:
        """A label map if it is in memory."""
        return self._held.get(key) or self._there.get(key)

    def key_of(self, labels: LabelMap) -> int | None:
        """The id of a label map that is in memory; None while it is blank, or when it is gone."""
        return self._keys.get(labels)

    def fold(self) -> None:
        """Write the journals of all maps in memory into files."""
        for key, labels in list(self._held.items()):
            record = self.items.get(key)
            if record is not None:
                LABELS.fold(self.study, record, labels)

    def forget(self, *keys: int) -> None:
        """Forget what is in memory of some things, or of all when none is named."""
        if not keys:
            self.choices_again()
        for key in keys or [*self._there, *self._blank]:
            labels = self._there.pop(key, None)
            if labels is not None:
                self._keys.pop(labels, None)
            for pool in (self._held, self._blank):
                pool.pop(key, None)

    def moved(self, image: int, record: Record) -> None:
        """The row of an image has changed: its blank map follows."""
        blank = self._blank.get(image)
        if blank is not None and record.space is not None:
            blank.space = record.space

    # what is kept

    def make(self, db: sqlite3.Connection, image: int, name: str = NO_MAP) -> int:
        """The row of a label map that was blank up to now, inside the transaction of its first edit."""
        record = self.study.find(image)
        body: dict[str, Any] = {"table": [], "file": None, "file_seq": 0}
        free = self.items.free_name(name, LABELS.kind, record.subject, image)
        key = self.items.insert(db, Record(0, LABELS.kind, record.subject, free, image, record.grid, "", body))
        self.choose(image, key)
        return key

    def born(self, labels: LabelMap) -> int | None:
        """What has become of a map that was blank once, when that is still on the Shelf: work that was begun on the
        blank one goes on there."""
        key = self.key_of(labels)
        record = None if key is None else self.items.get(key)
        return None if record is None or record.removed else key

    def keep_edit(
        self,
        labels: LabelMap,
        edit: LabelEdit,
        applied: bool = False,
        step: Step | None = None,
        end_gesture: bool = True,
    ) -> int:
        """Journal an edit of a label map, with its line in the logbook, and apply it (unless the hand that made it has
        done so already). Returns the id of the label map.

        Raises Trouble when the map has been deleted for good, or the study cannot be written; the map is then as it
        was before.
        """
        key = self.key_of(labels)
        image = next((image for image, blank in self._blank.items() if blank is labels), None)
        take_back = (lambda: edit.reversed().apply(labels)) if applied else None
        if key is not None:
            self.study.history.do([LabelChange(key, edit)], step, edit.title, take_back, end_gesture)
            return key
        if image is None:
            if take_back is not None:
                take_back()
            raise Trouble(f"“{labels.name}” has been deleted, so this step was not kept", "choose another label map")
        made: list[int] = []

        def insert(db: sqlite3.Connection) -> tuple[list[Change], Step | None]:
            made.append(self.make(db, image))
            self.become(labels, made[0])
            return [LabelChange(made[0], edit)], step

        try:
            self.study.history.do(insert, None, edit.title, take_back, end_gesture)
        except BaseException:
            for one in made:
                self.unmake(image, one, labels)
            raise
        return made[0]

    def become(self, labels: LabelMap, key: int) -> None:
        """A blank map is the one with this id from now on."""
        with self._opening:
            self.hold(key, labels)
            for image in [image for image, blank in self._blank.items() if blank is labels]:
                del self._blank[image]

    def unmake(self, image: int, key: int, labels: LabelMap) -> None:
        """The row of `make` has gone again: the map is blank as before."""
        with self._opening:
            self.forget(key)
            if labels.name == NO_MAP:
                self._blank[image] = labels
