"""The catalogue's items: everything a study keeps, whatever its kind."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property, lru_cache
from typing import Any

from ..core.axis import Axis
from ..core.caveat import Caveat
from ..core.errors import Trouble
from ..core.kind import KINDS, is_read
from ..core.names import plain_name, typed_name
from ..core.reference import Reference
from ..core.space import Space
from .catalogue import Catalogue, now
from .catalogue_trouble import rows_understood
from .item_index import ItemIndex


@dataclass(frozen=True)
class Record:
    """What the catalogue knows of a thing, without opening it. `body` is the kind's own business."""

    id: int
    kind: str
    subject: str
    name: str
    of: int | None = None
    space: Space | None = None
    hash: str = ""
    body: dict = field(default_factory=dict, compare=False)
    removed: bool = False
    added: str = ""
    owner: str = ""
    """Name of the thing it is of."""
    made_of: int | None = None
    """Id of the first thing that the step was given which has made it."""

    def __getattr__(self, name: str) -> Any:
        """The body of a row that was read is taken apart when it is first asked for: of thousands few are."""
        text = self.__dict__.get("_text") if name == "body" else None
        if text is None:
            raise AttributeError(name)
        object.__setattr__(self, "body", json.loads(text))
        return self.body

    @property
    def body_text(self) -> str:
        """The body as JSON."""
        text = self.__dict__.get("_text")
        return json.dumps(self.body, default=str) if text is None else text

    @property
    def known(self) -> bool:
        """Whether this program knows the kind; others are shown as such and kept."""
        return self.kind in KINDS.names()

    @property
    def is_read(self) -> bool:
        """Whether it is there to be read; see `core.kind.Kind`."""
        return is_read(self.kind)

    @property
    def reference(self) -> Reference:
        """How it is named in text."""
        if self.of is not None:
            return Reference(self.owner, self.subject, self.name)
        return Reference(self.name, self.subject)

    def field(self, name: str) -> Any:
        """What `Items.update` would write to leave a field as it is."""
        if name.startswith("body."):
            return self.body.get(name[5:])
        value = getattr(self, name)
        return value.as_dict() if isinstance(value, Space) else value

    @property
    def short_facts(self) -> str:
        """A line for its card."""
        return self.kind if self.known else f"{self.kind}, not known here"


@dataclass(frozen=True)
class ImageRecord(Record):
    """An image in the catalogue."""

    @property
    def modality(self) -> str:
        return self.body.get("modality", "")

    @property
    def unit(self) -> str:
        return self.body.get("unit", "")

    @property
    def format(self) -> str:
        return self.body.get("format", "")

    @property
    def facts(self) -> dict[str, str]:
        return self.body.get("facts", {})

    @property
    def colour(self) -> bool:
        return bool(self.body.get("colour"))

    @cached_property
    def caveats(self) -> list[Caveat]:
        return [Caveat.from_dict(c) for c in self.body.get("caveats", [])]

    @cached_property
    def axes(self) -> tuple[Axis, ...]:
        return tuple(Axis.from_dict(a) for a in self.body.get("axes", []))

    @property
    def grid(self) -> Space:
        """The space, which every image has."""
        assert self.space is not None
        return self.space

    @property
    def short_facts(self) -> str:
        space = self.grid
        flat = space.shape[2] == 1
        shape = "×".join(map(str, space.shape[:2] if flat else space.shape))
        shape += "".join(f" · {a.size} {a.plural}" for a in self.axes)
        if space.unit == "px" or self.axes:
            return shape
        least = min(space.spacing)
        size = f"{1000 * least:.3g} µm" if space.unit == "mm" and least < 0.1 else f"{least:.2g} {space.unit}"
        return f"{shape} · {size}"


RECORDS: dict[str, type[Record]] = {"image": ImageRecord}
"""Kinds of which a row tells more than of others."""
COLUMNS = (
    "item.id, item.kind, item.of, item.name, item.space, item.hash, item.body, item.removed, item.added, item.made_of,"
    " subject.name AS subject, owner.name AS owner,"
    " json_valid(item.body) AND json_type(item.body) = 'object' AS sound"
)
FROM = " FROM item JOIN subject ON subject.id = item.subject_id LEFT JOIN item AS owner ON owner.id = item.of"


MANY = 200
"""Rows that are read by whoever wrote them, so that nobody else has to wait for it."""


class Items:
    """Reads and writes the rows of the catalogue. What was read is kept; of what is written, its rows are read again.

    Who writes sees what is written; others see what is on disk, and do not wait for it: a worker that changes
    thousands of rows does not hold up the window.
    """

    def __init__(self, catalogue: Catalogue):
        self.catalogue = catalogue
        self._index: ItemIndex[Record] | None = None
        self._written: set[int] = set()
        """Rows to be read again."""
        self._touched: set[int] = set()
        """Rows that the transaction under way has written: when it is taken back they are as they were."""
        self._on_disk: dict[int, Record] | None = None
        """Everything, as it is told to whoever does not write; another dict after every transaction."""
        self._known: dict[int, tuple[tuple, Record]] = {}
        """What was read, with the row as it was: of hundreds one has changed, and the others need not be read."""
        catalogue.kept.append(self._kept)
        catalogue.taken_back.append(self._taken_back)

    def forget(self) -> None:
        """Read again when next asked: another process may have written."""
        with self.catalogue.guard:
            self._index = self._on_disk = None

    def _taken_back(self) -> None:
        self._written |= self._touched
        self._touched.clear()

    def _kept(self) -> None:
        if self._touched:  # whatever of it was read again in the transaction itself
            self._on_disk = self._now().everything() if len(self._touched) > MANY else None
            self._touched.clear()

    def _now(self) -> ItemIndex[Record]:
        """What there is now, for who holds the catalogue's guard."""
        index = self._index
        if index is None:
            index = ItemIndex[Record]()
            self._written.clear()
            before, self._known = self._known, {}
            for record in self._read("", (), before):
                index.put(record)
            self._index = index
        elif self._written:
            keys = tuple(self._written)
            there = {r.id: r for n in range(0, len(keys), 500) for r in self._some(keys[n : n + 500])}
            for key in keys:
                if key in there:
                    index.put(there[key])
                else:
                    index.drop(key)
                    self._known.pop(key, None)
            self._written.clear()
        return index

    def _some(self, keys: tuple[int, ...]) -> list[Record]:
        return self._read(f" WHERE item.id IN ({','.join('?' * len(keys))})", keys, self._known)

    def _read(self, where: str, values: tuple, before: dict[int, tuple[tuple, Record]]) -> list[Record]:
        rows = self.catalogue.rows(f"SELECT {COLUMNS}{FROM}{where}", *values)
        found = []
        with rows_understood(self.catalogue.path):
            for row in rows:
                told, known = tuple(row), before.get(row["id"])
                if known is None or known[0] != told:
                    known = (told, _record(row))
                self._known[row["id"]] = known
                found.append(known[1])
        return found

    def everything(self) -> dict[int, Record]:
        """All rows by id, those taken off the Shelf included; by subject and in the order they came."""
        found = self._on_disk
        if found is None or self.catalogue.writes_here:
            with self.catalogue.guard:
                found = self._now().everything()
                if not self.catalogue.writes_here:
                    self._on_disk = found
        return found

    def of_kind(self, *kinds: str) -> list[Record]:
        """What is on the Shelf, of some kinds or of all."""
        return [r for r in self.everything().values() if not r.removed and (not kinds or r.kind in kinds)]

    def owned(self, item: int) -> list[Record]:
        """All that is of a thing, what was taken off the Shelf included, the oldest first."""
        index = self._index
        if index is not None and self.catalogue.writes_elsewhere:
            return index.owned(item)
        with self.catalogue.guard:
            return self._now().owned(item)

    def on(self, item: int, kind: str) -> list[Record]:
        """Things that are of another one: the label maps of an image."""
        return [r for r in self.owned(item) if r.kind == kind and not r.removed]

    def alike(self, content: str) -> list[Record]:
        """Things on the Shelf of one content, the oldest first."""
        with self.catalogue.guard:
            return [r for r in self._now().alike(content) if not r.removed]

    def get(self, item: int) -> Record | None:
        found = self._on_disk
        if found is not None and not self.catalogue.writes_here:
            return found.get(item)
        with self.catalogue.guard:
            return self._now().by_id.get(item)

    def thumbnail(self, item: int) -> bytes | None:
        found = self.catalogue.rows("SELECT thumbnail FROM item WHERE id = ?", item)
        return found[0]["thumbnail"] if found else None

    def free_name(
        self,
        wanted: str,
        kind: str,
        subject: str,
        of: int | None = None,
        besides: int | None = None,
        coming: Sequence[int] = (),
    ) -> str:
        """The wanted name, or one near it that is not taken among things of the kind and subject; those of `coming`
        count although they are not on the Shelf yet."""
        base = plain_name(wanted) or kind.capitalize()
        with self.catalogue.guard:
            there = [r for r in self._now().at((kind, subject, of)) if not r.removed or r.id in coming]
        taken = {r.name.casefold() for r in there if r.id != besides}
        name, n = base, 2
        while name.casefold() in taken:
            name, n = f"{base} ({n})", n + 1
        return name

    def require_free(self, wanted: str, record: Record) -> str:
        """A name that a thing can be given; raises Trouble when it is empty, too long or taken."""
        name = typed_name(wanted)
        if not name:
            raise Trouble("A name is needed", "type one")
        if self.free_name(name, record.kind, record.subject, record.of, record.id) != name:
            whose = f" on “{record.owner}”" if record.of is not None else f" of {record.subject}"
            raise Trouble(f"There is a {record.kind} “{name}”{whose} already", "choose another name")
        return name

    # written inside a transaction

    def _wrote(self, *keys: int) -> None:
        self._written.update(keys)
        self._touched.update(keys)

    def insert(self, db: sqlite3.Connection, record: Record, thumbnail: bytes | None = None) -> int:
        """A new row; returns its id."""
        db.execute("INSERT OR IGNORE INTO subject (name) VALUES (?)", (record.subject,))
        subject = db.execute("SELECT id FROM subject WHERE name = ?", (record.subject,)).fetchone()[0]
        made = db.execute(
            "INSERT INTO item (kind, subject_id, of, name, space, hash, body, thumbnail, removed, added, made_of)"
            " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            (
                record.kind,
                subject,
                record.of,
                record.name,
                None if record.space is None else json.dumps(record.space.as_dict()),
                record.hash,
                json.dumps(record.body),
                thumbnail,
                int(record.removed),
                record.added or now(),
                record.made_of,
            ),
        ).lastrowid
        assert made is not None
        self._wrote(made)
        return made

    def update(self, db: sqlite3.Connection, item: int, facts: dict[str, Any]) -> None:
        """Change fields of a row: name, subject, removed, hash, space (a dict), and keys of the body by "body.key"."""
        for key, value in facts.items():
            if key.startswith("body."):
                db.execute(
                    "UPDATE item SET body = json_set(body, ?, json(?)) WHERE id = ?",
                    (f'$."{key[5:]}"', json.dumps(value), item),
                )
            elif key in ("name", "removed", "hash", "space"):
                stored = json.dumps(value) if key == "space" else int(value) if key == "removed" else value
                db.execute(f"UPDATE item SET {key} = ? WHERE id = ?", (stored, item))
            elif key == "subject":
                db.execute("INSERT OR IGNORE INTO subject (name) VALUES (?)", (value,))
                whose = "(SELECT id FROM subject WHERE name = ?)"
                db.execute(f"UPDATE item SET subject_id = {whose} WHERE id = ?", (value, item))
            else:
                raise KeyError(key)
        # the name is told by things that are of it, too
        self._wrote(item, *((r.id for r in self.owned(item)) if "name" in facts else ()))

    def delete(self, db: sqlite3.Connection, item: int) -> None:
        """Delete a row for good, with everything that is of it and all their changes."""
        for one in (*(r.id for r in self.owned(item)), item):
            db.execute("DELETE FROM change WHERE item_id = ?", (one,))
            db.execute("DELETE FROM version WHERE item_id = ?", (one,))
            db.execute("DELETE FROM item WHERE id = ?", (one,))
            self._wrote(one)


def _record(row: sqlite3.Row) -> Record:
    kind = RECORDS.get(row["kind"], Record)
    if not row["sound"]:
        raise ValueError("the body of a row is no list of names and values")
    found = kind(
        row["id"],
        row["kind"],
        row["subject"],
        row["name"],
        row["of"],
        None if row["space"] is None else _space(row["space"]),
        row["hash"],
        {},
        bool(row["removed"]),
        row["added"],
        row["owner"] or "",
        row["made_of"],
    )
    object.__setattr__(found, "_text", row["body"])
    object.__delattr__(found, "body")
    return found


@lru_cache(4096)
def _space(text: str) -> Space:
    """A grid as it is kept; many images have the same one."""
    return Space.from_dict(json.loads(text))


def renamed(record: Record, name: str) -> Record:
    return replace(record, name=name)
