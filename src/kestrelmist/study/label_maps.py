"""The label maps of a study's images: which there are, which is worked on, and what is held in memory of them."""

from __future__ import annotations

import sqlite3
import weakref
from contextlib import suppress
from dataclasses import replace
from typing import Any

from ..core.budget import BUDGET
from ..core.errors import Trouble
from ..core.labels import LabelMap
from ..core.patch import LabelEdit
from ..core.progress import Progress
from .changes import Change, ItemChange, LabelChange
from .items import Record
from .logbook import Step, Thing
from .open_study import OpenStudy
from .store import row_of
from .stores.label_maps import FILE_EVERY, LABELS
from .task import NO_MAP

IN_HAND = "labels in hand"
"""Key under which the study remembers which label map of each image is worked on."""


class LabelMaps:
    """One object a map, whoever works on it; an image without labels has a blank one, which becomes a thing of the
    study with the first edit."""

    def __init__(self, study: OpenStudy):
        self.study, self.items, self.catalogue = study, study.items, study.catalogue
        self._there: weakref.WeakValueDictionary[int, LabelMap] = weakref.WeakValueDictionary()
        self._held: dict[int, LabelMap] = {}
        self._blank: dict[int, LabelMap] = {}

    def of(self, image: int) -> list[Record]:
        """The label maps of an image, the oldest first."""
        return self.items.on(image, "label map")

    def in_hand(self, image: int) -> int | None:
        """The label map of an image that is worked on: the one chosen last, else the newest; None when it has none."""
        keys = [r.id for r in self.of(image)]
        chosen = self.catalogue.recall(IN_HAND, {}).get(str(image))
        return chosen if chosen in keys else keys[-1] if keys else None

    def take_in_hand(self, key: int) -> None:
        """Choose the label map that is worked on."""
        record = self.items.get(key)
        if record is None or record.of is None:
            raise Trouble("This is no label map of an image", "choose one that is")
        self.catalogue.remember(IN_HAND, self.catalogue.recall(IN_HAND, {}) | {str(record.of): key})

    def on(self, image: int) -> LabelMap:
        """The label map in hand of an image, or its blank one."""
        key = self.in_hand(image)
        if key is not None:
            return self.open(key)
        if image not in self._blank:
            record = self.study.find(image)
            self._blank[image] = LabelMap(record.grid, name=NO_MAP, subject=record.subject)
        return self._blank[image]

    def open(self, key: int) -> LabelMap:
        """A label map by its id. The same object is given as long as anybody holds it."""
        found = self.in_memory(key)
        record = self.items.get(key)
        if record is None:
            raise Trouble(f"There is no label map with the id {key} in this study", "choose one of the list")
        if found is None:
            found = LABELS.open(self.study, record)
            if not self.study.read_only and LABELS.waiting(self.study, record) > FILE_EVERY:
                with suppress(Trouble):  # the journal has it all; a file is tried again at the end
                    LABELS.fold(self.study, record, found)
        self._there[key] = self._held[key] = found
        BUDGET.use(found, found.memory, lambda _: self._let_go(key))
        return found

    def in_memory(self, key: int) -> LabelMap | None:
        """A label map if it is in memory."""
        return self._held.get(key) or self._there.get(key)

    def _let_go(self, key: int) -> None:
        """A label map makes room for others; whoever works on it still has it."""
        labels = self._held.get(key)
        if labels is not None and not self.catalogue.closed and not self.study.read_only:
            record = self.items.get(key)
            if record is not None:
                with suppress(Trouble):
                    LABELS.fold(self.study, record, labels)
        self._held.pop(key, None)

    def fold(self) -> None:
        """Write the journals of all maps in memory into files."""
        for key, labels in list(self._held.items()):
            record = self.items.get(key)
            if record is not None:
                LABELS.fold(self.study, record, labels)

    def forget(self, *keys: int) -> None:
        """Forget what is in memory of some things, or of all when none is named."""
        for pool in (self._held, self._blank):
            for key in keys or list(pool):
                pool.pop(key, None)

    def moved(self, image: int, record: Record) -> None:
        """The row of an image has changed: its blank map follows."""
        blank = self._blank.get(image)
        if blank is not None and record.space is not None:
            blank.space = record.space

    def row_for(self, db: sqlite3.Connection, image: int) -> int:
        """The row of an image's label map, made when it has none yet."""
        key = self.in_hand(image)
        if key is not None:
            return key
        record = self.items.get(image)
        assert record is not None and record.space is not None
        body: dict[str, Any] = {"table": [], "file": None, "file_seq": 0}
        row = Record(0, "label map", record.subject, NO_MAP, image, record.space, "", body)
        key = self.items.insert(db, row)
        labels = self._blank.pop(image, None)
        if labels is not None:
            self._held[key] = self._there[key] = labels
        return key

    def new(self, image: int, name: str = "", copy: int | None = None) -> int:
        """A new label map on an image, empty or a copy of another; taken in hand. Returns its id."""
        record = self.study.find(image)
        source = None if copy is None else self.open(copy)
        if source is not None and not source.space.same_grid(record.grid):
            raise Trouble(f"“{source.name}” lies on another grid than “{record.name}”", "open it onto the image")
        labels = LabelMap(record.grid) if source is None else source.copied()
        labels.name = name or NO_MAP
        prepared = LABELS.prepare(self.study, labels, Progress())
        title = f"New label map “{name or NO_MAP}”"
        made: list[int] = []

        def insert(db: sqlite3.Connection) -> tuple[list[Change], Step]:
            named = self.items.free_name(prepared.name, "label map", record.subject, record.id)
            row = replace(row_of(prepared), name=named, subject=record.subject, of=record.id, removed=True)
            made.append(self.items.insert(db, row))
            facts = LABELS.take(self.study, prepared, made[0])
            if facts:
                self.items.update(db, made[0], facts)
            thing = Thing("label map", named, record.subject, record.name, (), made[0])
            step = Step(
                "new-labels", title, {"name": named}, {"image": (self.study.as_thing(record),)}, {"labels": (thing,)}
            )
            return [ItemChange(made[0], title, {"removed": True}, {"removed": False})], step

        try:
            self.study.history.do(insert, title=title)
        finally:
            prepared.drop()
        self.take_in_hand(made[0])
        return made[0]

    def keep_edit(
        self,
        image: int,
        edit: LabelEdit,
        applied: bool = False,
        step: Step | None = None,
        end_gesture: bool = True,
    ) -> int:
        """Journal an edit of the label map in hand on an image, with its line in the logbook, and apply it (unless the
        hand that made it has done so already). Returns the id of the label map."""
        labels, key = self.on(image), self.in_hand(image)
        if key is not None:
            self.study.history.do([LabelChange(key, edit)], step, edit.title, applied, end_gesture)
            return key
        made: list[int] = []

        def insert(db: sqlite3.Connection) -> tuple[list[Change], Step | None]:
            made.append(self.row_for(db, image))
            return [LabelChange(made[0], edit)], step

        try:
            self.study.history.do(insert, title=edit.title, applied=applied, end_gesture=end_gesture)
        except BaseException:
            for key in made:  # the row has gone again
                self._held.pop(key, None)
            self._blank[image] = labels
            raise
        return made[0]
