"""Rows of a catalogue that is made anew, and where each was found."""

from __future__ import annotations

import json
from collections import Counter
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from ..core.errors import Trouble
from ..core.labels import LabelMap
from ..core.progress import silent
from ..core.space import Space
from ..core.table import Column, Table
from ..formats.label_files import read_label_map
from ..gather.plan import plan_folder
from .catalogue import now
from .salvage import TABLES, Salvaged
from .shelf_copy import read_shelf_copy
from .stores.images import body_of

UNNAMED = "Unnamed subject"
WORDS = {"item": "things", "change": "changes", "step": "steps"}
KEYS = {"subject": "id", "session": "id", "item": "id", "step": "id", "change": "seq", "version": "id", "view": "key"}
"""What tells the rows of each table apart."""


@dataclass
class Found:
    """Rows by table: those of the catalogue to build on, completed by what others hold and what lies in the folder.

    Parameters
    ----------
    folder : path
        That of the study.
    catalogues : list of Salvaged
        What could be read, the one to build on first.
    """

    folder: Path
    catalogues: list[Salvaged]
    told: Counter[tuple[str, str]] = field(default_factory=Counter)

    def complete(self) -> None:
        best = self.catalogues[0].rows if self.catalogues else {}
        self.rows = {table: list(best.get(table, [])) for table in TABLES}
        for table, words in (("item", "things"), ("change", "changes"), ("step", "steps")):
            if self.rows[table]:
                self.told[words, f"from {self.catalogues[0].name}"] = len(self.rows[table])
        self._from_others()
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

    def _from_others(self) -> None:
        """Rows that the best catalogue lacks, of others that are earlier or later states of it."""
        for other in self.catalogues[1:]:
            if not same_history(self.rows, other.rows):
                continue
            gone = _deleted(self.rows["step"])
            for table, key in KEYS.items():
                there = {row[key] for row in self.rows[table]}
                more = [row for row in other.rows.get(table, ()) if row[key] not in there]
                more = [row for row in more if table != "item" or row["id"] not in gone]
                self.rows[table] += more
                if more and table in WORDS:
                    self.told[WORDS[table], f"from {other.name}"] += len(more)
            self.rows["change"].sort(key=lambda row: row["seq"])

    def losses(self) -> Table:
        """What there was, as far as can be told, and will not be there."""
        found: list[tuple[str, str]] = []
        best = self.catalogues[0] if self.catalogues else None
        if best is None or not best.count:
            found.append(("the logbook, and all that could be undone", "no catalogue is left that can be read"))
        elif not best.whole:
            for table, count in best.lost.items():
                found.append((f"{count} {WORDS.get(table, table)}", f"of {best.name} cannot be read"))
            if best.cut:
                found.append(("perhaps more", f"{best.name} cannot be read to its end"))
        for other in self.catalogues[1:]:
            for table, words in WORDS.items():
                count = len(_told(other.rows, table) - _told(self.rows, table))
                if count and not (best is not None and best.whole and best.name == "study.db"):
                    found.append((f"{count} {words}", f"are in {other.name}, of another history"))
        for (what, where), count in self.told.items():
            if where.startswith("that "):
                found.append((f"{count} {what}", where.removeprefix("that ")))
        return Table("What would be lost", [Column("what"), Column("why")], found)

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
        for number, maps in self._label_files():
            maps.sort(key=lambda p: p.stat().st_mtime)
            labels = next((found for found in map(_label_map, reversed(maps)) if found is not None), None)
            image = None if labels is None else self._image_under(labels[0].space)
            if labels is None or image is None:
                self.told["label maps", "that fit no image, or cannot be read"] += 1
                continue
            file = str(labels[1].relative_to(self.folder))
            body = {"table": labels[0].table.as_list(), "file": file, "file_seq": 0}
            name = f"Labels {number}"
            row = {"id": number, "kind": "label map", "name": name, "of": image["id"], "space": image["space"]}
            self._add(row | {"body": json.dumps(body)}, self.subjects[image["subject_id"]], "from their files")

    def _label_files(self) -> list[tuple[int, list[Path]]]:
        """Files of label maps that no row tells of, by a number that is free; older layouts had them all in one
        folder, under numbers of their own."""
        found = [(int(home.name), list(home.glob("map*.nii.gz"))) for home in self._folders("labels")]
        told = {json.loads(row["body"]).get("file") for row in self.items.values() if row["kind"] == "label map"}
        if any(str(file).startswith("labels/map-") for file in told):
            return found  # the rows are there, and what they do not name is older
        older: dict[str, list[Path]] = {}
        for path in self.folder.glob("labels/map-*.nii.gz"):
            older.setdefault(path.name.split("-")[1], []).append(path)
        free = max([0, *self.items, *(number for number, _ in found)]) + 1
        return found + [(free + n, maps) for n, (_, maps) in enumerate(sorted(older.items()))]

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


def same_history(one: dict[str, list[dict]], other: dict[str, list[dict]]) -> bool:
    """Whether two catalogues are states of one: what both hold under one number is the same."""
    for table, name in (("step", "made"), ("change", "made"), ("item", "added")):
        known = {row[KEYS[table]]: row[name] for row in one.get(table, ())}
        if any(known.get(row[KEYS[table]], row[name]) != row[name] for row in other.get(table, ())):
            return False
    return True


def _told(rows: dict[str, list[dict]], table: str) -> set[tuple]:
    """What tells rows of another history apart: when and what, not their numbers."""
    names = {"item": ("kind", "name", "added"), "change": ("made", "title"), "step": ("made", "title")}[table]
    return {tuple(row[name] for name in names) for row in rows.get(table, ())}


def _deleted(steps: list[dict]) -> set[int]:
    """Ids of things that were deleted for good."""
    found = set()
    for step in steps:
        if step["operation"] == "delete":
            things = json.loads(step["inputs"]).get("thing", [])
            found |= {thing.get("item") for thing in things if isinstance(thing, dict)}
    return {key for key in found if isinstance(key, int)}
