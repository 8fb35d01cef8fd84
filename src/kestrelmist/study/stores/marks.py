"""Marks: a whole file now and then, and the journal of every change since. When the last file is damaged the first one
and the whole journal tell the same."""

from __future__ import annotations

import json
import sqlite3
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from ...core.errors import Trouble
from ...core.geometry.marks import MarkEdit, Marks
from ...core.progress import Progress
from ...core.safe_write import write_trouble, written_whole
from ...core.space import Space
from ...core.transform import Transform
from ..given import Given, still_to_be_made
from ..items import Record
from ..journal.changes import CHANGES, Change, ItemChange
from ..open_study import OpenStudy
from ..store import STORES, ForEdit, Prepared, Store, side_folder

FILE_EVERY = 200
"""Changes after which the journal is folded into a file, to keep opening quick."""


class MarkStore(Store):
    """Keeps marks. Positions in files and in the journal count at the place that their image had then: what has moved
    with it is brought along when they are opened."""

    kind, folder = "marks", "marks"

    def prepare(self, study: OpenStudy, thing: Marks, progress: Progress) -> Prepared:
        side = side_folder(study)
        _write(side / "first.json", thing)
        return Prepared(self.kind, thing.name, thing.subject, None, thing.content_hash(), _facts(thing), None, side)

    def at_hand(self, study: OpenStudy, record: Record) -> Marks:
        return study.marks.open(record.id)

    def identity(self, study: OpenStudy, record: Record) -> str:
        return f"{record.id}@{study.history.revision(record.id)}"

    def on(self, study: OpenStudy, owner: Record) -> Record | Given:
        key = study.marks.in_hand(owner.id)
        record = None if key is None else study.items.get(key)
        return still_to_be_made(owner, self.kind, self.blank(owner)) if record is None else record

    def blank(self, owner: Any, name: str = "") -> Marks:
        made = blank_marks(owner)
        return replace(made, name=name) if name else made

    def is_of_image(self, thing: Marks) -> bool:
        return True

    def moved(self, study: OpenStudy, record: Record, was: Space, now: Space) -> dict[str, Any]:
        return {} if record.space is None else {"space": record.space.relocated(was, now).as_dict()}

    def take(self, study: OpenStudy, prepared: Prepared, key: int) -> dict[str, Any]:
        super().take(study, prepared, key)
        facts: dict[str, Any] = {"body.first": f"{self.folder}/{key}/first.json"}
        owner = None if prepared.of is None else study.items.get(prepared.of)
        if owner is not None and owner.space is not None:  # what has just been made is worked on
            study.marks.choose(owner.id, key)
            facts |= {"space": owner.space.as_dict(), "body.first_space": owner.space.as_dict()}
        return facts

    def for_edit(self, study: OpenStudy, db: sqlite3.Connection, target: Given) -> ForEdit:
        if target.item is not None:
            return ForEdit(target.item, int(target.thing.hash.rpartition("@")[2]))
        assert target.of is not None
        key = study.marks.in_hand(target.of)  # others may have drawn the first ones meanwhile
        return ForEdit(study.marks.make(db, target.of, target.thing.name) if key is None else key, None)

    def born(self, study: OpenStudy, target: Given) -> int | None:
        return None if target.of is None else study.marks.in_hand(target.of)

    def change(self, study: OpenStudy, key: int, edit: MarkEdit, revision: int | None) -> Change:
        return MarkChange(key, edit if revision is not None else edit.anew(study.marks.open(key)), revision)

    def forget(self, study: OpenStudy, key: int) -> None:
        study.marks.forget(key)

    def open(self, study: OpenStudy, record: Record) -> Marks:
        """The marks as they are now: a file, and what happened since, in order."""
        body, trouble = record.body, None
        for file, seq, space in (
            (body.get("file"), body.get("file_seq", 0), body.get("file_space")),
            (body.get("first"), 0, body.get("first_space")),
        ):
            if not file:
                continue
            try:
                marks = _read(study.folder / file, record)
            except Trouble as found:
                trouble = found
                continue
            if trouble is not None:
                study.notice(f"{trouble.what}: the marks were made anew from the journal")
            return self._since(study, record, marks, seq, space)
        if body.get("first"):  # the journal knows only what was changed of it
            assert trouble is not None
            raise trouble
        if trouble is not None:
            study.notice(f"{trouble.what}: the marks were made anew from the journal")
        return self._since(study, record, blank_marks(record), 0, None)

    def _since(self, study: OpenStudy, record: Record, marks: Marks, seq: int, placed: dict | None) -> Marks:
        """Marks with what the journal tells after a place in it; `placed` is the place of their image then."""
        changes = [change for _, change in study.history.changes_since(record.id, seq)]
        first = placed or next((c.before["space"] for c in changes if _moves(c)), None)
        space = record.space if first is None else Space.from_dict(first)
        for change in changes:
            if isinstance(change, MarkChange):
                marks = marks.with_edit(change.edit)
            elif _moves(change) and space is not None:
                now = Space.from_dict(change.after["space"])
                marks, space = _carried(marks, space, now), now
        return self.as_placed(replace(marks, unit=marks.unit if space is None else space.unit), record, space)

    def as_placed(self, marks: Marks, record: Record, was: Space | None = None) -> Marks:
        """Marks under the name of their row, at its place; `was` is the place that their positions count at."""
        now = record.space
        if now is not None:
            if was is not None:
                marks = _carried(marks, was, now)
            marks = replace(marks, world=now.world, unit=now.unit)
        classes = record.body.get("classes", marks.classes)
        return replace(marks, name=record.name, subject=record.subject, of=record.owner, classes=classes)

    def waiting(self, study: OpenStudy, record: Record) -> int:
        """Changes in the journal that no file holds yet."""
        return study.catalogue.rows(
            "SELECT count(*) AS n FROM change WHERE item_id = ? AND kind = 'marks' AND seq > ?",
            record.id,
            record.body.get("file_seq", 0),
        )[0]["n"]

    def fold(self, study: OpenStudy, record: Record, marks: Marks) -> None:
        """Write marks as a file and note which changes it holds. The one before goes when the new one counts."""
        if not self.waiting(study, record):
            return
        last = study.history.revision(record.id)
        home, before = study.folder / self.folder / str(record.id), record.body.get("file")
        try:
            home.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise write_trouble(error, home) from error
        _write(home / f"marks-{last}.json", marks)
        facts = {"body.file": f"{self.folder}/{record.id}/marks-{last}.json", "body.file_seq": last}
        facts |= {f"body.{name}": value for name, value in _facts(marks).items()}
        facts["body.file_space"] = None if record.space is None else record.space.as_dict()
        with study.catalogue.change() as db:
            study.items.update(db, record.id, facts)
        if before and before != facts["body.file"]:
            (study.folder / before).unlink(missing_ok=True)


def blank_marks(owner: Any) -> Marks:
    """No marks yet, of an image or of its row; or of a row of marks."""
    space = owner.space
    if space is None:
        return Marks(name=owner.name, subject=owner.subject)
    return Marks({}, space.world, space.unit, subject=owner.subject, of=owner.name)


def _facts(marks: Marks) -> dict[str, Any]:
    """What a row tells of marks without opening them."""
    return {"count": len(marks), "classes": marks.classes}


def _moves(change: Any) -> bool:
    return isinstance(change, ItemChange) and bool(change.before.get("space")) and bool(change.after.get("space"))


def _carried(marks: Marks, was: Space, now: Space) -> Marks:
    """Marks on the same voxels of an image that has been placed elsewhere."""
    if was == now:
        return marks
    mapping = Transform(now.affine @ was.inverse, was.world, now.world)
    return replace(marks.moved(mapping), unit=now.unit)


def _write(path: Path, marks: Marks) -> None:
    with written_whole(path) as stream:
        stream.write(json.dumps(marks.as_dict()).encode())


def _read(path: Path, record: Record) -> Marks:
    try:
        return Marks.from_dict(json.loads(path.read_bytes()), record.name, record.subject)
    except FileNotFoundError as error:
        raise Trouble(
            f"The file of “{record.name}” is no longer there", "bring it back to where it was", path
        ) from error
    except (OSError, ValueError, TypeError, AttributeError, Trouble) as error:
        raise Trouble(f"The file of “{record.name}” is damaged", "bring back a copy", path) from error


@dataclass(frozen=True)
class MarkChange:
    """A change to some of the marks of a thing."""

    item: int
    edit: MarkEdit
    revision: int | None = None
    kind: str = "marks"

    @property
    def title(self) -> str:
        return self.edit.title

    def write(self, study: OpenStudy, db: sqlite3.Connection) -> None:
        pass  # the journal is where marks live; a file follows from time to time

    def apply(self, study: OpenStudy) -> None:
        study.marks.edited(self.item, self.edit)

    def reversed(self) -> MarkChange:
        return MarkChange(self.item, self.edit.reversed())

    def packed(self) -> tuple[bytes | None, str | None, str | None]:
        before, after = self.edit.as_texts()
        return None, before, after


def _unpack(item: int, title: str, body: bytes | None, before: str | None, after: str | None) -> MarkChange:
    return MarkChange(item, MarkEdit.from_texts(title, before, after))


CHANGES.add("marks", _unpack)
MARKS = MarkStore()
STORES.add(MARKS.kind, MARKS)
