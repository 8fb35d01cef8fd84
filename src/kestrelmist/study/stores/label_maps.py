"""Label maps: a whole file now and then, and the journal of every change since.

The state of a map is always its last file plus the changes after it, in order, whenever the machine stopped. A map of a
huge picture is kept as a chunked array of which only painted chunks are written.
"""

from __future__ import annotations

import math
import shutil
import sqlite3
from pathlib import Path
from typing import Any

import numpy as np

from ...core.class_table import ClassTable
from ...core.errors import Cancelled, Trouble, let_through
from ...core.labels import HUGE, LabelMap, LabelTable
from ...core.patch import LabelEdit, sparse_difference, whole_difference
from ...core.progress import Progress, silent
from ...core.safe_write import write_trouble
from ...core.space import Space
from ...formats.dicom.header import is_dicom
from ...formats.label_files import table_path, write_label_table
from ...formats.layout import Layout
from ...formats.nifti import read_nifti
from ...formats.nifti_write import write_nifti
from ..catalogue_trouble import rows_understood
from ..given import Given, still_to_be_made
from ..items import Record
from ..journal.changes import Change, LabelChange
from ..open_study import OpenStudy
from ..store import STORES, ForEdit, Prepared, Store, side_folder

FILE_EVERY = 200
"""Changes after which the journal is folded into a file, to keep opening quick."""
NO_MAP = "Labels"
"""Name of the label map that comes into being with the first label on an image."""
CHUNK = 1024
"""Voxels along i and j of a chunk of a huge map."""


class LabelStore(Store):
    """Keeps label maps."""

    kind, folder = "label map", "labels"

    def from_file(self, path: Path, part: str | None, progress: Progress, onto: Space | None = None) -> list[Any]:
        if not path.is_file() or not is_dicom(path):
            return super().from_file(path, part, progress, onto)
        if onto is None:
            raise Trouble(
                "The labels of a DICOM file have no grid of their own here",
                "put them onto their image first (open-labels), or name the image too",
                path,
            )
        from ...formats.dicom.labels import read_dicom_labels

        return [read_dicom_labels(path, onto, progress)]

    def prepare(self, study: OpenStudy, thing: LabelMap, progress: Progress) -> Prepared:
        body: dict[str, Any] = {"table": thing.table.as_list(), "file": None, "file_seq": 0}
        side = None
        if thing.counts[0] < thing.kji.size:
            side = side_folder(study)
            body |= _file(side, "map", thing) | {"began": "file"}
        return Prepared(
            "label map", thing.name or "Labels", thing.subject, thing.space, thing.content_hash(), body, None, side
        )

    def at_hand(self, study: OpenStudy, record: Record) -> LabelMap:
        return study.label_map(record.id)

    def identity(self, study: OpenStudy, record: Record) -> str:
        return f"{record.id}@{study.history.revision(record.id)}"

    def on(self, study: OpenStudy, owner: Record) -> Record | Given:
        key = study.in_hand(owner.id)
        record = None if key is None else study.items.get(key)
        return still_to_be_made(owner, self.kind, study.maps.blank(owner.id)) if record is None else record

    def blank(self, owner: Any, name: str = "") -> LabelMap:
        return LabelMap(owner.space, name=name or NO_MAP, subject=owner.subject)

    def is_of_image(self, thing: LabelMap) -> bool:
        return True

    def for_edit(self, study: OpenStudy, db: sqlite3.Connection, target: Given) -> ForEdit:
        if target.item is not None:
            return ForEdit(target.item, int(target.thing.hash.rpartition("@")[2]))
        assert target.of is not None and target.blank is not None
        maps, labels = study.maps, target.blank
        born = maps.born(labels)
        if born is not None:
            return ForEdit(born, 0)  # the state that was worked on: nothing was drawn on it
        key = maps.make(db, target.of, target.thing.name)
        if maps.key_of(labels) is None and not labels.table:  # else what was drawn on it has gone since, and it too
            maps.become(labels, key)
            return ForEdit(key, None, made=True)
        return ForEdit(key, None)

    def born(self, study: OpenStudy, target: Given) -> int | None:
        return None if target.blank is None else study.maps.born(target.blank)

    def not_kept(self, study: OpenStudy, key: int, target: Given) -> None:
        assert target.of is not None
        study.maps.unmake(target.of, key, target.blank)

    def change(self, study: OpenStudy, key: int, edit: LabelEdit, revision: int | None) -> Change:
        return LabelChange(key, edit, revision)

    def following(self, study: OpenStudy, record: Record, classes: ClassTable, title: str) -> list[Change]:
        table = study.label_map(record.id).table
        after = classes.on_labels(table)
        edit = LabelEdit(title, None, table, after)
        return [] if after == table else [LabelChange(record.id, edit, study.history.revision(record.id))]

    def coming(self, study: OpenStudy, key: int, thing: LabelMap, name: str) -> None:
        thing.name = name
        study.maps.hold(key, thing)

    def forget(self, study: OpenStudy, key: int) -> None:
        study.maps.forget(key)

    def moved(self, study: OpenStudy, record: Record, was: Space, now: Space) -> dict[str, Any]:
        return {} if record.space is None else {"space": record.space.relocated(was, now).as_dict()}

    def take(self, study: OpenStudy, prepared: Prepared, key: int) -> dict[str, Any]:
        super().take(study, prepared, key)
        if prepared.of is not None:  # what has just been made is worked on
            study.maps.choose(prepared.of, key)
        file = prepared.body["file"]
        return {"body.file": f"labels/{key}/{file}"} if file else {}

    def files(self, study: OpenStudy, record: Record) -> list[Path]:
        file = record.body.get("file")
        return [study.folder / self.folder / str(record.id), *([study.folder / file] if file else [])]

    def open(self, study: OpenStudy, record: Record) -> LabelMap:
        """The map as it was when the last gesture was finished."""
        assert record.space is not None
        try:
            labels = self.from_last_file(study, record)
        except Trouble as trouble:
            return self._from_journal(study, record, trouble)
        for edit in _edits(study, record, record.body.get("file_seq", 0)):
            edit.apply(labels)
        return labels

    def _from_journal(self, study: OpenStudy, record: Record, trouble: Trouble) -> LabelMap:
        """The map as far as the journal reaches, when its file cannot be read; what is left of the file stays beside.

        Raises the trouble of the file when the journal holds nothing.
        """
        assert record.space is not None
        edits = _edits(study, record, 0)
        if not any(edit.patch is not None for edit in edits):
            raise trouble
        labels = LabelMap(record.space, None, LabelTable(), record.name, record.subject)
        whole = record.body.get("began") != "file"  # of such a one the journal knows only what was changed
        for edit in edits:
            if edit.patch is not None:
                whole = whole and edit.patch.fits_before(labels)
            edit.apply(labels)
        if not whole:
            labels.recount()
            labels.table = LabelMap(record.space, labels.data, labels.table).table
        else:
            labels.table = LabelTable.from_list(record.body["table"]) if not len(labels.table) else labels.table
        first = study.catalogue.rows("SELECT min(made) AS first FROM change WHERE item_id = ?", record.id)[0]["first"]
        lost = "" if whole else "; what it held before that is not in the journal"
        study.notice(
            f"The file of “{record.name}” could not be read ({trouble.what}): the labels were made anew from the"
            f" journal, from {first[:16].replace('T', ' ')} on{lost}"
        )
        if not study.read_only:
            path = study.folder / str(record.body.get("file"))
            if path.exists():
                path.rename(path.with_name(f"{path.name}.damaged"))
            self.keep_file(study, record, labels)
        return labels

    def from_last_file(self, study: OpenStudy, record: Record) -> LabelMap:
        """The map as its last file has it."""
        assert record.space is not None
        table = LabelTable.from_list(record.body["table"])
        file = record.body.get("file")
        if not file:
            return LabelMap(record.space, None, table, record.name, record.subject)
        path = study.folder / file
        if not path.exists():
            raise Trouble(f"The file of “{record.name}” is no longer there", "bring it back to where it was", path)
        try:
            if path.is_dir():
                labels = LabelMap(record.space, None, table, record.name, record.subject)
                _read_chunks(path, labels)
                return labels
            return LabelMap(record.space, _numbers(path, record), table, record.name, record.subject)
        except (Trouble, Cancelled):
            raise
        except BaseException as error:  # whatever a decoder says to a damaged file
            let_through(error)
            raise Trouble(f"The file of “{record.name}” is damaged", "bring back a copy", path) from error

    def waiting(self, study: OpenStudy, record: Record) -> int:
        """Changes in the journal that no file holds yet."""
        return study.catalogue.rows(
            "SELECT count(*) AS n FROM change WHERE item_id = ? AND kind = 'labels' AND seq > ?",
            record.id,
            record.body.get("file_seq", 0),
        )[0]["n"]

    def fold(self, study: OpenStudy, record: Record, labels: LabelMap) -> None:
        """Write the map as a file and note which changes it holds. The old file goes when the new one counts."""
        if self.waiting(study, record):
            self.keep_file(study, record, labels)

    def keep_file(self, study: OpenStudy, record: Record, labels: LabelMap) -> None:
        """Write the map as its file, whatever the file was."""
        last = study.history.revision(record.id)
        home = study.folder / self.folder / str(record.id)
        try:
            home.mkdir(parents=True, exist_ok=True)
            made = _file(home, f"map-{last}", labels, home / Path(record.body.get("file") or "none").name)
        except OSError as error:
            raise write_trouble(error, home) from error
        facts = {f"body.{key}": value for key, value in made.items() if key != "file"}
        facts |= {"body.file": f"labels/{record.id}/{made['file']}", "body.file_seq": last}
        facts |= {"body.table": labels.table.as_list()}
        with study.catalogue.change() as db:
            study.items.update(db, record.id, facts)
        before = record.body.get("file")
        if before and before != facts["body.file"]:
            path = study.folder / before
            shutil.rmtree(path, ignore_errors=True) if path.is_dir() else path.unlink(missing_ok=True)
            if path.name.endswith(".nii.gz"):
                table_path(path).unlink(missing_ok=True)


def _edits(study: OpenStudy, record: Record, seq: int) -> list[LabelEdit]:
    """Edits of a map after a place in the journal; raises Damaged when one of them does not fit it."""
    assert record.space is not None
    edits = [c.edit for _, c in study.history.changes_since(record.id, seq) if isinstance(c, LabelChange)]
    with rows_understood(study.catalogue.path):
        for edit in edits:
            if edit.patch is not None:
                edit.patch.require_fit(math.prod(record.space.shape))
    return edits


def _file(folder: Path, name: str, labels: LabelMap, before: Path | None = None) -> dict[str, Any]:
    """Write a map into a folder; returns what the body of its row says of the file."""
    if labels.kji.size > HUGE:
        path = folder / f"{name}.zarr"
        _write_chunks(path, labels)
        return {"file": path.name, "layout": None}
    path = folder / f"{name}.nii.gz"
    write_nifti(path, labels.data, labels.space, labels.name)
    if len(labels.table):  # the names, for whoever finds the file without the catalogue
        write_label_table(table_path(path), labels.table)
    layout = read_nifti(path).origin.layout
    return {"file": path.name, "layout": layout.as_dict([path]) if isinstance(layout, Layout) else None}


def _numbers(path: Path, record: Record) -> np.ndarray:
    """Numbers of a map's file; the header is looked at only when the file is not as it was written."""
    noted = record.body.get("layout")
    layout = Layout.from_dict(noted, [path]) if noted else None
    if layout is None:
        from ...formats.label_files import label_map_of

        return label_map_of(read_nifti(path), path).data
    try:
        return layout.fetch((), silent()).values
    except OSError as error:
        raise Trouble(f"The file of “{record.name}” cannot be read", "bring back a copy", path) from error


def _write_chunks(path: Path, labels: LabelMap) -> None:
    """Painted chunks only, so that a file costs what is painted."""
    import zarr

    beside = path.with_name(f".{path.name}.part")
    shutil.rmtree(beside, ignore_errors=True)
    array = zarr.create_array(
        str(beside),
        shape=labels.kji.shape,
        chunks=(1, CHUNK, CHUNK),
        dtype="uint16",
        fill_value=0,
        config={"write_empty_chunks": False},
    )
    for k in range(labels.kji.shape[0]):
        for j in range(0, labels.kji.shape[1], CHUNK):
            rows = labels.kji[k, j : j + CHUNK]
            painted = np.flatnonzero(rows.any(axis=0))
            if painted.size:
                for i in np.unique(painted // CHUNK) * CHUNK:
                    array[k, j : j + CHUNK, i : i + CHUNK] = rows[:, i : i + CHUNK]
    shutil.rmtree(path, ignore_errors=True)
    beside.rename(path)


def _read_chunks(path: Path, labels: LabelMap) -> None:
    import zarr

    array: Any = zarr.open_array(str(path), mode="r")
    if tuple(array.shape) != labels.kji.shape:
        raise Trouble("The file of these labels is of another size than the picture", "bring back a copy", path)
    for chunk in sorted((path / "c").glob("*/*/*")):
        k, j, i = int(chunk.parent.parent.name), int(chunk.parent.name) * CHUNK, int(chunk.name) * CHUNK
        part = array[k, j : j + CHUNK, i : i + CHUNK]
        labels.kji[k, j : j + CHUNK, i : i + CHUNK] = part
        labels.counts += np.bincount(part.ravel(), minlength=labels.counts.size)
        labels.counts[0] -= part.size


def difference(before: LabelMap, after: LabelMap, title: str) -> LabelEdit:
    """The edit that turns one map into another on the same grid, locked labels included."""
    if before.kji.size > HUGE:
        return LabelEdit(title, sparse_difference(before, after), before.table, after.table)
    changed = (before.kji != after.kji).view("uint8")
    if not changed.any():
        return LabelEdit(title, None, before.table, after.table)
    return LabelEdit(title, whole_difference(before, after, changed), before.table, after.table)


LABELS = LabelStore()
STORES.add("label map", LABELS)
