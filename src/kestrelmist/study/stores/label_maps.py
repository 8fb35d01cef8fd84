"""Label maps: a whole file now and then, and the journal of every change since.

The state of a map is always its last file plus the changes after it, in order, whenever the machine stopped. A map of a
huge picture is kept as a chunked array of which only painted chunks are written.
"""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import Any

import numpy as np

from ...core.errors import Trouble
from ...core.labels import HUGE, LabelMap, LabelTable
from ...core.patch import LabelEdit, sparse_difference, whole_difference
from ...core.progress import Progress, silent
from ...core.safe_write import write_trouble
from ...formats.layout import Layout
from ...formats.nifti import read_nifti
from ...formats.nifti_write import write_nifti
from ..changes import LabelChange
from ..items import Record
from ..open_study import OpenStudy
from ..store import STORES, Prepared, Store, side_folder

FILE_EVERY = 200
"""Changes after which the journal is folded into a file, to keep opening quick."""
CHUNK = 1024
"""Voxels along i and j of a chunk of a huge map."""


class LabelStore(Store):
    """Keeps label maps."""

    kind, folder = "label map", "labels"

    def prepare(self, study: OpenStudy, thing: LabelMap, progress: Progress) -> Prepared:
        body: dict[str, Any] = {"table": thing.table.as_list(), "file": None, "file_seq": 0}
        side = None
        if thing.counts[0] < thing.kji.size:
            side = side_folder(study)
            body |= _file(side, "map", thing)
        return Prepared(
            "label map", thing.name or "Labels", thing.subject, thing.space, thing.content_hash(), body, None, side
        )

    def take(self, study: OpenStudy, prepared: Prepared, key: int) -> dict[str, Any]:
        super().take(study, prepared, key)
        file = prepared.body["file"]
        return {"body.file": f"labels/{key}/{file}"} if file else {}

    def files(self, study: OpenStudy, record: Record) -> list[Path]:
        file = record.body.get("file")
        return [study.folder / self.folder / str(record.id), *([study.folder / file] if file else [])]

    def open(self, study: OpenStudy, record: Record) -> LabelMap:
        """The map as it was when the last gesture was finished."""
        assert record.space is not None
        labels = self.from_file(study, record)
        for _, change in study.history.changes_since(record.id, record.body.get("file_seq", 0)):
            if isinstance(change, LabelChange):
                change.edit.apply(labels)
        return labels

    def from_file(self, study: OpenStudy, record: Record) -> LabelMap:
        """The map as its last file has it."""
        assert record.space is not None
        table = LabelTable.from_list(record.body["table"])
        file = record.body.get("file")
        if not file:
            return LabelMap(record.space, None, table, record.name, record.subject)
        path = study.folder / file
        if not path.exists():
            raise Trouble(f"The file of “{record.name}” is no longer there", "bring it back to where it was", path)
        if path.is_dir():
            labels = LabelMap(record.space, None, table, record.name, record.subject)
            _read_chunks(path, labels)
            return labels
        return LabelMap(record.space, _numbers(path, record), table, record.name, record.subject)

    def waiting(self, study: OpenStudy, record: Record) -> int:
        """Changes in the journal that no file holds yet."""
        return study.catalogue.rows(
            "SELECT count(*) AS n FROM change WHERE item_id = ? AND kind = 'labels' AND seq > ?",
            record.id,
            record.body.get("file_seq", 0),
        )[0]["n"]

    def fold(self, study: OpenStudy, record: Record, labels: LabelMap) -> None:
        """Write the map as a file and note which changes it holds. The old file goes when the new one counts."""
        if not self.waiting(study, record):
            return
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


def _file(folder: Path, name: str, labels: LabelMap, before: Path | None = None) -> dict[str, Any]:
    """Write a map into a folder; returns what the body of its row says of the file."""
    if labels.kji.size > HUGE:
        path = folder / f"{name}.zarr"
        _write_chunks(path, labels)
        return {"file": path.name, "layout": None}
    path = folder / f"{name}.nii.gz"
    write_nifti(path, labels.data, labels.space, labels.name)
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
