"""Label maps on disk: a whole file now and then, and a journal of every gesture since.

The journal only ever grows at its end. Undo writes the reversed gesture as a new row, so that the state of the map
is always the file plus the rows after it, in order, whenever the machine stopped.
"""

from __future__ import annotations

import json

from ..core.labels import LabelMap, LabelTable
from ..core.patch import LabelEdit, Patch, whole_difference
from ..core.space import Space
from ..formats.nifti import read_label_map, write_label_map
from .catalogue import Catalogue, now

FILE_EVERY = 200
"""Gestures after which the journal is folded into a file, to keep opening quick."""


class LabelStore:
    """Reads and journals the label maps of a study. `session` is the running session's id."""

    def __init__(self, catalogue: Catalogue, session: int | None):
        self.catalogue, self.session = catalogue, session

    def map_id(self, image_id: int) -> int | None:
        """The id of an image's label map (the newest), None when it has none yet."""
        found = self.catalogue.rows("SELECT id FROM label_map WHERE image_id = ? ORDER BY id DESC", image_id)
        return found[0]["id"] if found else None

    def make(self, image_id: int, space: Space, name: str) -> int:
        with self.catalogue.change() as db:
            return db.execute("INSERT INTO label_map (image_id, name, space, labels) VALUES (?, ?, ?, '[]')",
                              (image_id, name, json.dumps(space.as_dict()))).lastrowid

    def load(self, map_id: int) -> LabelMap:
        """The map as it was when the last gesture was finished."""
        row = self.catalogue.rows("SELECT * FROM label_map WHERE id = ?", map_id)[0]
        table = LabelTable.from_list(json.loads(row["labels"]))
        space = Space.from_dict(json.loads(row["space"]))
        if row["file"]:
            on_disk = read_label_map(self.catalogue.folder / row["file"], table)
            labels = LabelMap(space, on_disk.data, table, row["name"])
        else:
            labels = LabelMap(space, None, table, row["name"])
        for gesture in self.catalogue.rows("SELECT * FROM gesture WHERE label_map_id = ? AND seq > ? ORDER BY seq",
                                           map_id, row["file_seq"]):
            _edit(gesture).apply(labels)
        return labels

    def journal(self, map_id: int, edit: LabelEdit) -> None:
        """Write an edit to the journal; on disk when this returns."""
        with self.catalogue.change() as db:
            db.execute("INSERT INTO gesture (session_id, label_map_id, title, made, patch, labels_before, labels_after)"
                       " VALUES (?, ?, ?, ?, ?, ?, ?)",
                       (self.session, map_id, edit.title, now(), edit.patch.to_bytes() if edit.patch else None,
                        _json(edit.table_before), _json(edit.table_after)))

    def waiting(self, map_id: int) -> int:
        """Gestures in the journal that no file holds yet."""
        return self.catalogue.rows("SELECT count(*) AS n FROM gesture, label_map WHERE label_map.id = ? AND"
                                   " label_map_id = label_map.id AND seq > file_seq", map_id)[0]["n"]

    def fold(self, map_id: int, labels: LabelMap) -> None:
        """Write the map as a file and note which gestures it holds. The old file goes when the new one counts."""
        if not self.waiting(map_id):
            return
        last = self.catalogue.rows("SELECT max(seq) AS last FROM gesture WHERE label_map_id = ?", map_id)[0]["last"]
        before = self.catalogue.rows("SELECT file FROM label_map WHERE id = ?", map_id)[0]["file"]
        name = f"labels/map-{map_id}-{last}.nii.gz"
        write_label_map(self.catalogue.folder / name, labels)
        with self.catalogue.change() as db:
            db.execute("UPDATE label_map SET file = ?, file_seq = ?, labels = ? WHERE id = ?",
                       (name, last, _json(labels.table), map_id))
        if before and before != name:
            (self.catalogue.folder / before).unlink(missing_ok=True)

    def session_before(self, map_id: int) -> tuple[int, str] | None:
        """Id and start of the last earlier session that changed this map."""
        found = self.catalogue.rows(
            "SELECT session_id, started FROM gesture JOIN session ON session.id = session_id WHERE label_map_id = ?"
            " AND session_id < ? ORDER BY seq DESC LIMIT 1", map_id, self.session or 1 << 60)
        return (found[0]["session_id"], found[0]["started"]) if found else None

    def state_before(self, map_id: int, session: int, labels: LabelMap) -> LabelEdit:
        """The edit that brings a map back to how it was before a session began (everything since is undone)."""
        rows = self.catalogue.rows("SELECT * FROM gesture WHERE label_map_id = ? AND session_id >= ? ORDER BY seq DESC",
                                   map_id, session)
        then = LabelMap(labels.space, labels.data.copy(order="F"), labels.table)
        for row in rows:
            _edit(row).reversed().apply(then)
        return difference(labels, then, "Back to the state before the last session")


def difference(before: LabelMap, after: LabelMap, title: str) -> LabelEdit:
    """The edit that turns one map into another on the same grid, locked labels included."""
    changed = (before.kji != after.kji).view("uint8")
    if not changed.any():
        return LabelEdit(title, None, before.table, after.table)
    return LabelEdit(title, whole_difference(before, after, changed), before.table, after.table)


def _json(table: LabelTable | None) -> str | None:
    return None if table is None else json.dumps(table.as_list())


def _edit(row) -> LabelEdit:
    tables = [None if row[key] is None else LabelTable.from_list(json.loads(row[key])) for key in ("labels_before", "labels_after")]
    return LabelEdit(row["title"], Patch.from_bytes(row["patch"]) if row["patch"] else None, *tables)
