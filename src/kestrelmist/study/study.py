"""A study: one folder with its images, labels, results and logbook, open for work."""

from __future__ import annotations

import json
import shutil
from dataclasses import dataclass
from pathlib import Path

from ..core.axis import Axis
from ..core.errors import Trouble
from ..core.image import Image, Origin
from ..core.labels import LabelMap
from ..core.patch import LabelEdit
from ..core.progress import Progress, silent
from ..core.space import Space
from ..core.table import Table
from ..scene.thumbnail import thumbnail
from . import image_store
from .catalogue import Catalogue, now
from .label_store import FILE_EVERY, LabelStore, difference
from .logbook import Logbook, Step


@dataclass(frozen=True)
class ImageRecord:
    """What the catalogue knows of an image, without opening it."""

    id: int
    subject: str
    name: str
    modality: str
    unit: str
    space: Space
    facts: dict
    notes: list[str]
    hash: str
    thumbnail: bytes | None
    format: str
    axes: tuple[Axis, ...] = ()
    colour: bool = False

    @property
    def short_facts(self) -> str:
        flat = self.space.shape[2] == 1
        shape = "×".join(map(str, self.space.shape[:2] if flat else self.space.shape)) + "".join(f" · {a.size} {a.plural}" for a in self.axes)
        if self.space.unit == "px" or self.axes:
            return shape
        least = min(self.space.spacing)
        size = f"{1000 * least:.3g} µm" if self.space.unit == "mm" and least < 0.1 else f"{least:.2g} {self.space.unit}"
        return f"{shape} · {size}"


class Study:
    """An open study folder.

    Parameters
    ----------
    folder : path
    create : bool
        Make the study when the folder holds none.

    Raises
    ------
    Trouble
        When there is no study, it is damaged, or was written by a newer version.
    """

    def __init__(self, folder: str | Path, create: bool = False):
        self.folder = Path(folder)
        self.catalogue = Catalogue(self.folder, create)
        self.session = self._start_session()
        self.label_store = LabelStore(self.catalogue, self.session)
        self.logbook = Logbook(self.catalogue)
        self._records: list[ImageRecord] | None = None
        self._images: dict[int, Image] = {}
        self._labels: dict[int, LabelMap] = {}

    def __enter__(self) -> Study:
        return self

    def __exit__(self, *_) -> None:
        self.close()

    @property
    def name(self) -> str:
        return self.folder.resolve().name

    @property
    def read_only(self) -> bool:
        return self.catalogue.read_only

    def _start_session(self) -> int | None:
        if self.read_only:
            return None
        with self.catalogue.change() as db:
            return db.execute("INSERT INTO session (started) VALUES (?)", (now(),)).lastrowid

    def close(self) -> None:
        """Fold the journals into files and let go of the study."""
        if not self.read_only:
            for map_id, labels in self._labels.items():
                self.label_store.fold(map_id, labels)
            with self.catalogue.change() as db:
                db.execute("UPDATE session SET ended = ? WHERE id = ?", (now(), self.session))
        self.catalogue.close()

    # images

    def records(self) -> list[ImageRecord]:
        """All images on the Shelf, by subject and in the order they came."""
        if self._records is None:
            self._records = self._read_records()
        return self._records

    def _read_records(self) -> list[ImageRecord]:
        rows = self.catalogue.rows("SELECT image.*, subject.name AS subject FROM image JOIN subject ON subject.id = subject_id"
                                   " WHERE NOT removed ORDER BY subject.name, image.id")
        return [ImageRecord(r["id"], r["subject"], r["name"], r["modality"], r["unit"], Space.from_dict(json.loads(r["space"])),
                            json.loads(r["facts"]), json.loads(r["notes"]), r["hash"], r["thumbnail"], r["format"],
                            tuple(Axis.from_dict(a) for a in json.loads(r["axes"])), bool(r["colour"])) for r in rows]

    def find(self, wanted: int | str) -> ImageRecord:
        """An image by id, by name, or by "subject/name"; raises Trouble when none or several fit."""
        fits = [r for r in self.records() if wanted == r.id or str(wanted).casefold() in
                (str(r.id), r.name.casefold(), f"{r.subject}/{r.name}".casefold())]
        if len(fits) == 1:
            return fits[0]
        have = ", ".join(f"{r.subject}/{r.name}" for r in self.records()) or "none yet"
        raise Trouble(f"{'Several images are' if fits else 'No image is'} called “{wanted}” in this study",
                      f"choose one of: {have}", self.folder)

    def image(self, wanted: int | str) -> Image:
        """The image, its values still on disk."""
        record = self.find(wanted)
        if record.id not in self._images:
            self._images[record.id] = image_store.reopened(self.catalogue, record)
        return self._images[record.id]

    def add_image(self, image: Image, progress: Progress | None = None) -> int:
        """Keep an image: copies files or writes values, then notes it in the catalogue. All or nothing.

        Raises Trouble when the study is read-only, the disk is full, or the very same image is there already.
        """
        progress = progress or silent()
        if image.axes and not image.origin.files and not self.read_only:
            image = image_store.written_series(self.folder, image, progress.part(0.0, 0.4))
        if not image.levels and not image.axes:
            image.fetch(progress.part(0.0, 0.4))
        digest = image.content_hash(progress.part(0.4, 0.5))
        same = [r for r in self.records() if r.hash == digest and r.subject == image.subject]
        if same:
            raise Trouble(f"“{image.name}” is in the study already, as “{same[0].name}” of {same[0].subject}",
                          "open it from the Shelf")
        picture = thumbnail(image)
        # the row is hidden until its files are whole; copying happens outside any transaction, so nobody waits for it
        with self.catalogue.change() as db:
            db.execute("INSERT OR IGNORE INTO subject (name) VALUES (?)", (image.subject,))
            subject = db.execute("SELECT id FROM subject WHERE name = ?", (image.subject,)).fetchone()["id"]
            image.name = self._free_name(image)
            key = db.execute(
                "INSERT INTO image (subject_id, name, modality, unit, space, facts, format, files, reading, notes, hash, thumbnail,"
                " removed, added, axes, colour) VALUES (?, ?, ?, ?, ?, ?, '', '[]', '{}', ?, ?, ?, 1, ?, ?, ?)",
                (subject, image.name, image.modality, image.unit, json.dumps(image.space.as_dict()), json.dumps(image.facts),
                 json.dumps(image.origin.notes), digest, picture, now(), json.dumps([a.as_dict() for a in image.axes]), int(image.colour))).lastrowid
        kind, files, reading = image_store.keep_files(self.folder, key, image, progress.part(0.5, 1.0))
        with self.catalogue.change() as db:
            db.execute("UPDATE image SET format = ?, files = ?, reading = ?, removed = 0 WHERE id = ?",
                       (kind, json.dumps(files), json.dumps(reading), key))
        self._records = None
        if not image.axes and not image.levels:  # others are opened again from the study's own files when first wanted
            image.origin = Origin(kind, [self.folder / f for f in files], notes=image.origin.notes, reading=reading)
            self._images[key] = image
        if image.labels is not None and image.labels.counts[0] < image.labels.kji.size:
            self._keep_labels(key, image.labels)
        return key

    def _keep_labels(self, key: int, labels: LabelMap) -> None:
        """Labels that came with an image, as the first step on its label map."""
        empty = self.labels(key)
        edit = difference(empty, labels, f"Labels that came with “{self.find(key).name}”")
        self.keep_edit(key, LabelEdit(edit.title, edit.patch, empty.table, labels.table))

    def _free_name(self, image: Image) -> str:
        taken = {r.name for r in self.records() if r.subject == image.subject}
        name, n = image.name or "Image", 2
        while name in taken:
            name, n = f"{image.name} ({n})", n + 1
        return name

    def set_removed(self, image_id: int, removed: bool) -> None:
        """Take an image off the Shelf or put it back; its files and labels stay."""
        with self.catalogue.change() as db:
            db.execute("UPDATE image SET removed = ? WHERE id = ?", (int(removed), image_id))
        self._records = None

    def delete_image(self, wanted: int | str, name: str) -> None:
        """Delete an image with its labels and the study's own copy of its files, for good. Files left in place stay.

        Raises Trouble unless `name` is the image's name, typed as it is.
        """
        record = self.find(wanted)
        if name != record.name:
            raise Trouble(f"“{name}” is not the name of this image, so nothing was deleted", f"type “{record.name}”")
        maps = [r["id"] for r in self.catalogue.rows("SELECT id FROM label_map WHERE image_id = ?", record.id)]
        files = [r["file"] for r in self.catalogue.rows("SELECT file FROM label_map WHERE image_id = ?", record.id) if r["file"]]
        with self.catalogue.change() as db:
            for key in maps:
                db.execute("DELETE FROM gesture WHERE label_map_id = ?", (key,))
            db.execute("DELETE FROM label_map WHERE image_id = ?", (record.id,))
            db.execute("DELETE FROM image WHERE id = ?", (record.id,))
            self.logbook.write(Step("delete", "Delete for good", {"name": record.name}, {"image": {"name": record.name, "subject": record.subject,
                                                                                                 "hash": record.hash}}))
        for key in (*maps, -record.id):
            self._labels.pop(key, None)
        self._images.pop(record.id, None)
        self._records = None
        shutil.rmtree(self.folder / "images" / str(record.id), ignore_errors=True)
        for file in files:
            (self.folder / file).unlink(missing_ok=True)

    def rename_image(self, image_id: int, name: str, modality: str | None = None) -> None:
        """Give an image another name, and a modality when its file did not say."""
        with self.catalogue.change() as db:
            db.execute("UPDATE image SET name = ?, modality = coalesce(?, modality) WHERE id = ?", (name, modality, image_id))
        self._records = None

    # labels

    def labels(self, wanted: int | str) -> LabelMap:
        """The label map of an image; empty when nothing was labelled yet."""
        record = self.find(wanted)
        key = self.label_map_id(record)
        if key not in self._labels:
            labels = LabelMap(record.space, name=f"Labels on {record.name}") if key is None else self.label_store.load(key)
            labels.subject = record.subject
            if key is None:
                key = -record.id  # becomes a row of the catalogue with the first edit
            self._labels[key] = labels
            if key > 0 and not self.read_only and self.label_store.waiting(key) > FILE_EVERY:
                self.label_store.fold(key, labels)
        return self._labels[key]

    def label_map_id(self, record: ImageRecord) -> int | None:
        found = self.label_store.map_id(record.id)
        return found if found is not None else (-record.id if -record.id in self._labels else None)

    def start_labels(self, wanted: int | str) -> LabelMap:
        """An empty label map on the image's own grid in place of the present one, which stays in the catalogue."""
        record = self.find(wanted)
        key = self.label_store.make(record.id, record.space, f"Labels on {record.name}")
        self._labels[key] = self.label_store.load(key)
        self._labels[key].subject = record.subject
        return self._labels[key]

    def keep_edit(self, wanted: int | str, edit: LabelEdit, applied: bool = False, step: Step | None = None) -> None:
        """Journal an edit, with its line in the logbook, and apply it (unless the hand that made it has done so already).

        The journal comes first: what cannot be written is not shown as done. When writing fails, an edit that was
        applied already is taken back.
        """
        record = self.find(wanted)
        labels = self.labels(record.id)
        key = self.label_map_id(record)
        try:
            with self.catalogue.change():
                place = key if key > 0 else self.label_store.make(record.id, labels.space, labels.name)
                self.label_store.journal(place, edit)
                if step is not None:
                    self.logbook.write(step)
            self._labels[place] = self._labels.pop(key)
        except Trouble:
            if applied:
                edit.reversed().apply(labels)
            raise
        if not applied:
            edit.apply(labels)

    # results

    def keep_table(self, table: Table, logbook_id: int | None) -> int:
        with self.catalogue.change() as db:
            return db.execute("INSERT INTO result (logbook_id, title, made, content) VALUES (?, ?, ?, ?)",
                              (logbook_id, table.title, now(), json.dumps(table.as_dict()))).lastrowid

    def tables(self) -> list[Table]:
        """Tables made so far, the newest first."""
        return [Table.from_dict(json.loads(r["content"])) for r in
                self.catalogue.rows("SELECT content FROM result ORDER BY id DESC LIMIT 50")]

    def run(self, operation: str, progress: Progress | None = None, **settings):
        """Run an operation on this study and keep what it makes; see `kestrelmist.study.run`."""
        from .run import run

        return run(self, operation, settings, progress)
