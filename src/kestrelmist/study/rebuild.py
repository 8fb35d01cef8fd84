"""A study's catalogue made anew: from what can be read of the old one, the copy of the Shelf, and the files."""

from __future__ import annotations

import fcntl
import json
import shutil
import sqlite3
import tempfile
from collections import Counter
from contextlib import suppress
from dataclasses import dataclass, field, replace
from datetime import datetime
from pathlib import Path
from typing import Any

from ..core.errors import Trouble
from ..core.labels import LabelMap
from ..core.progress import silent
from ..core.space import Space
from ..core.table import Column, Table
from ..formats.label_files import read_label_map
from ..gather.plan import plan_folder
from ..scene.thumbnail import thumbnail
from .catalogue import now
from .catalogue_trouble import remains
from .salvage import TABLES, salvaged_rows
from .schema import bring_up_to_date
from .shelf_copy import read_shelf_copy
from .stores.images import body_of
from .study import Study

UNNAMED = "Unnamed subject"


def rebuild(folder: str | Path) -> Table:
    """Make a study's catalogue anew. The old one stays beside, as `study.damaged-DATE.db`.

    Parameters
    ----------
    folder : path
        The folder of a study that nobody has open.

    Returns
    -------
    A table of what was found, and where.

    Raises
    ------
    Trouble
        When the folder holds nothing of a study, or the study is open.
    """
    folder = Path(folder)
    old = folder / "study.db"
    if not (old.exists() and old.stat().st_size) and not remains(folder):
        raise Trouble("There is nothing of a study in this folder", "choose the folder of the study", folder)
    try:
        lock = open(folder / "study.lock", "a")
    except OSError as error:
        raise Trouble("This folder cannot be written to", "ask for permission, or work on a copy", folder) from error
    with lock:
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as error:
            raise Trouble("This study is open in another window", "close it first", folder) from error
        with tempfile.TemporaryDirectory(prefix=".rebuild-", dir=folder) as place:
            aside = Path(place) / "old"
            aside.mkdir()
            for path in folder.glob("study.db*"):
                if path.suffix != ".db-shm" and path.is_file():
                    shutil.copyfile(path, aside / path.name)
            found = _Found(folder, salvaged_rows(aside / "study.db") if (aside / "study.db").exists() else {})
            found.complete()
            made = Path(place) / "study.db"
            _write(made, found.rows)
            when = datetime.now().strftime("%Y%m%d-%H%M%S")
            for path in sorted(folder.glob("study.db*")):
                path.rename(path.with_name(path.name.replace("study.db", f"study.damaged-{when}.db")))
            made.rename(old)
    _draw_thumbnails(folder)
    return found.table()


def _draw_thumbnails(folder: Path) -> None:
    """Small pictures of the images that have lost theirs; one that cannot be drawn stays without."""
    with suppress(Trouble), Study(folder) as study:
        for record in study.records():
            if study.thumbnail(record.id) is None:
                with suppress(Trouble), study.catalogue.change() as db:
                    drawn = thumbnail(study.image(record.id))
                    db.execute("UPDATE item SET thumbnail = ? WHERE id = ?", (drawn, record.id))


@dataclass
class _Found:
    """Rows by table, completed by what lies in the folder."""

    folder: Path
    rows: dict[str, list[dict]]
    told: Counter[tuple[str, str]] = field(default_factory=Counter)

    def complete(self) -> None:
        for table in TABLES:
            self.rows.setdefault(table, [])
        for table, words in (("item", "things"), ("change", "changes"), ("step", "steps")):
            if self.rows[table]:
                self.told[words, "from the old catalogue"] = len(self.rows[table])
        self.subjects = {row["id"]: row["name"] for row in self.rows["subject"]}
        for row in self.rows["item"]:
            if row["subject_id"] not in self.subjects:
                self._subject(f"{UNNAMED} {row['subject_id']}", row["subject_id"])
        self.items = {row["id"]: row for row in self.rows["item"]}
        self._from_copy()
        self._from_images()
        self._from_label_maps()
        there = set(self.items)
        self.rows["item"] = [row for row in self.items.values() if row["of"] is None or row["of"] in there]
        there = {row["id"] for row in self.rows["item"]}
        self.rows["change"] = self._whole_entries(there)
        self.rows["version"] = [row for row in self.rows["version"] if row["item_id"] in there]
        sessions = {row["id"] for row in self.rows["session"]}
        for number in {row["session_id"] for row in self.rows["change"]} - sessions:
            self.rows["session"].append({"id": number, "started": now(), "ended": now()})

    def _whole_entries(self, there: set[int]) -> list[dict]:
        changes = [row for row in self.rows["change"] if row["item_id"] in there]
        numbers = {row["seq"] for row in changes}
        return [r for r in changes if r["entry"] in numbers and (r["turns"] is None or r["turns"] in numbers)]

    def _subject(self, name: str, key: int | None = None) -> int:
        for known, there in self.subjects.items():
            if there == name and key is None:
                return known
        key = key if key is not None else max(self.subjects, default=0) + 1
        self.subjects[key] = name
        self.rows["subject"].append({"id": key, "name": name})
        return key

    def _add(self, row: dict[str, Any], subject: str, where: str) -> None:
        facts = {"of": None, "space": None, "hash": "", "thumbnail": None, "removed": 0, "added": now()} | row
        self.items[row["id"]] = facts | {"subject_id": self._subject(subject)}
        self.told[f"{row['kind']}s", where] += 1

    def _from_copy(self) -> None:
        """Rows of the copy whose files are there."""
        for row in read_shelf_copy(self.folder):
            body = row.get("body") if isinstance(row.get("body"), dict) else {}
            assert isinstance(body, dict)
            files = body.get("files") or ([body["file"]] if body.get("file") else [])
            if row["id"] in self.items or not all((self.folder / f).exists() for f in files):
                continue
            try:
                space = None if row["space"] is None else json.dumps(Space.from_dict(row["space"]).as_dict())
                kept = {k: row[k] for k in ("id", "kind", "name", "of", "hash", "added")}
                facts = {"space": space, "body": json.dumps(body), "removed": int(bool(row["removed"]))}
                self._add(kept | facts, str(row["subject"]), "from the copy of the Shelf")
            except (Trouble, KeyError, TypeError, ValueError):
                continue

    def _folders(self, name: str) -> list[Path]:
        place = self.folder / name
        there = place.iterdir() if place.is_dir() else ()
        found = [p for p in there if p.is_dir() and p.name.isdigit() and int(p.name) not in self.items]
        return sorted(found, key=lambda p: int(p.name))

    def _from_images(self) -> None:
        for home in self._folders("images"):
            try:
                line = next(line for line in plan_folder(home) if line.is_image)
                image = line.open(silent())
                origin = image.origin
                names = [str(Path(f).relative_to(self.folder)) for f in origin.files]
                row = {"id": int(home.name), "kind": "image", "name": image.name or f"Image {home.name}"}
                facts = {
                    "space": json.dumps(image.space.as_dict()),
                    "hash": image.content_hash(),
                    "body": json.dumps(body_of(image, names, origin)),
                }
                self._add(row | facts, image.subject or UNNAMED, "from their files")
            except (Trouble, StopIteration, OSError, ValueError):
                self.told["images", "that cannot be read"] += 1

    def _from_label_maps(self) -> None:
        for home in self._folders("labels"):
            maps = sorted(home.glob("map*.nii.gz"), key=lambda p: p.stat().st_mtime)
            labels = next((found for found in map(_label_map, reversed(maps)) if found is not None), None)
            image = None if labels is None else self._image_under(labels[0].space)
            if labels is None or image is None:
                self.told["label maps", "that fit no image, or cannot be read"] += 1
                continue
            file = str(labels[1].relative_to(self.folder))
            body = {"table": labels[0].table.as_list(), "file": file, "file_seq": 0}
            name = f"Labels {home.name}"
            row = {"id": int(home.name), "kind": "label map", "name": name, "of": image["id"], "space": image["space"]}
            self._add(row | {"body": json.dumps(body)}, self.subjects[image["subject_id"]], "from their files")

    def _image_under(self, space: Space) -> dict | None:
        for row in self.items.values():
            if row["kind"] == "image" and row["space"] is not None:
                own = Space.from_dict(json.loads(row["space"]))
                if replace(space, unit=own.unit, world=own.world).same_grid(own):
                    return row
        return None

    def table(self) -> Table:
        rows = [(what, where, count) for (what, where), count in self.told.items()]
        return Table("Rebuilt", [Column("what"), Column("where"), Column("count")], rows)


def _label_map(path: Path) -> tuple[LabelMap, Path] | None:
    try:
        return read_label_map(path), path
    except (Trouble, OSError, ValueError):
        return None


def _write(path: Path, rows: dict[str, list[dict]]) -> None:
    db = sqlite3.connect(path, isolation_level=None)
    try:
        bring_up_to_date(db, path)
        db.execute("BEGIN")
        for table in TABLES:
            known = [row[1] for row in db.execute(f"PRAGMA table_info({table})")]
            for row in rows[table]:
                names = [name for name in known if name in row]
                marks = ", ".join("?" * len(names))
                db.execute(
                    f"INSERT OR IGNORE INTO {table} ({', '.join(names)}) VALUES ({marks})", [row[n] for n in names]
                )
        db.execute("COMMIT")
    finally:
        db.close()
