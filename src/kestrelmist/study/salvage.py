"""Rows out of a damaged catalogue: what can be read is read, row by row, and the rest is counted."""

from __future__ import annotations

import json
import sqlite3
from collections import Counter
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from ..core.errors import DiskFull
from ..core.space import Space
from .catalogue_trouble import NOT_UNDERSTOOD, trouble_of
from .journal.changes import unpacked
from .schema import CURRENT, STEPS, bring_up_to_date, run_script, version_of

TABLES = ("subject", "session", "item", "step", "change", "version", "view")
TYPES: dict[str, dict[str, type]] = {
    "subject": {"id": int, "name": str},
    "session": {"id": int, "started": str},
    "item": {"id": int, "kind": str, "subject_id": int, "name": str, "body": str, "added": str},
    "step": {"id": int, "made": str, "operation": str, "title": str},
    "change": {"seq": int, "entry": int, "item_id": int, "kind": str, "title": str, "made": str},
    "version": {"id": int, "item_id": int, "seq": int, "name": str},
    "view": {"key": str, "value": str},
}
"""What columns hold at least; a damaged catalogue may give anything."""
PROBED = 2000
"""Row numbers tried one by one in a stretch that cannot be read in a row."""


@dataclass
class Salvaged:
    """Rows that could be read of a catalogue, by table, in the layout of today; and how many could not."""

    name: str
    rows: dict[str, list[dict]] = field(default_factory=dict)
    lost: Counter[str] = field(default_factory=Counter)
    """Rows that were seen and could not be read, by table."""
    cut: bool = False
    """Whether a table could not be read to its end."""

    @property
    def whole(self) -> bool:
        return bool(self.rows) and not self.lost and not self.cut

    @property
    def count(self) -> int:
        """Rows of things, changes and steps: how much work is in it."""
        return sum(len(self.rows.get(table, ())) for table in ("item", "change", "step"))


def salvaged(path: Path) -> Salvaged:
    """All rows of a catalogue that can be read, whatever its layout; none when it is no catalogue.

    Parameters
    ----------
    path : path
        A copy of the catalogue, with its log beside it: reading it may change it.

    Raises
    ------
    Trouble
        When there is no room to bring an older one up to date.
    """
    found = Salvaged(path.name)
    db = _opened(path)
    try:
        version = _layout_of(db)
        if 0 < version < CURRENT:
            db = _up_to_date(db, path, version, found)
        if version <= 0 or version > CURRENT:
            found.cut = True
            return found
        for table in TABLES:
            rows, whole = _rows(db, table)
            found.rows[table] = [row for row in rows if _sound(table, row)]
            found.lost[table] += len(rows) - len(found.rows[table])
            found.cut = found.cut or not whole
        found.lost = +found.lost
        return found
    finally:
        db.close()


def _opened(path: Path) -> sqlite3.Connection:
    db = sqlite3.connect(path, isolation_level=None)
    db.row_factory = sqlite3.Row
    db.text_factory = lambda raw: raw.decode("utf-8", "replace")
    return db


def _layout_of(db: sqlite3.Connection) -> int:
    try:
        return version_of(db)
    except sqlite3.Error:
        return 0


def _up_to_date(db: sqlite3.Connection, path: Path, version: int, found: Salvaged) -> sqlite3.Connection:
    """An older catalogue in the layout of today: as it is, or, where it is damaged, the rows of it that can be read."""
    try:
        bring_up_to_date(db, path, keep=False)
        return db
    except DiskFull:
        db.close()
        raise
    except Exception:  # whatever a damaged row does to what takes it apart
        again = path.with_name(f"{path.stem}.again.db")
        sound = sqlite3.connect(again, isolation_level=None)
        try:
            for script, _ in STEPS[:version]:
                run_script(sound, script)
            for (table,) in sound.execute("SELECT name FROM sqlite_master WHERE type = 'table'").fetchall():
                rows, whole = _rows(db, table)
                kept = [row for row in rows if all(map(_is_sound_text, row.values()))]
                found.lost[table] += len(rows) - len(kept)
                found.cut = found.cut or not whole
                insert_rows(sound, table, kept)
            sound.execute(f"PRAGMA user_version = {version}")
            bring_up_to_date(sound, again, keep=False)
        except sqlite3.Error as error:
            raise trouble_of(error, path, "write") from error
        finally:
            sound.close()
            db.close()
        return _opened(again)


def _is_sound_text(value: Any) -> bool:
    """Whether what begins as JSON is JSON."""
    if not isinstance(value, str) or value[:1] not in ("{", "["):
        return True
    try:
        json.loads(value)
    except ValueError:
        return False
    return True


def insert_rows(db: sqlite3.Connection, table: str, rows: list[dict]) -> None:
    """Put rows into a table, what it has no column for left out; one that is there already stays."""
    known = [row[1] for row in db.execute(f"PRAGMA table_info({table})")]
    for row in rows:
        names = [name for name in known if name in row]
        marks = ", ".join("?" * len(names))
        columns = ", ".join(f'"{name}"' for name in names)
        db.execute(f"INSERT OR IGNORE INTO {table} ({columns}) VALUES ({marks})", [row[n] for n in names])


def _rows(db: sqlite3.Connection, table: str) -> tuple[list[dict], bool]:
    """From the front until a row cannot be read, from the back until one cannot, and one by one between; and whether
    the whole table was read."""
    front, last = _read(db, f"SELECT rowid AS row, * FROM {table} ORDER BY rowid")
    rows = list(front.values())
    if last:
        return rows, True
    high = max(front, default=0)
    back, _ = _read(db, f"SELECT rowid AS row, * FROM {table} WHERE rowid > {high} ORDER BY rowid DESC")
    for number in range(high + 1, min(min(back, default=high + PROBED), high + PROBED)):
        found, _ = _read(db, f"SELECT rowid AS row, * FROM {table} WHERE rowid = {number}")
        rows += found.values()
    return rows + [back[number] for number in sorted(back)], False


def _read(db: sqlite3.Connection, query: str) -> tuple[dict[int, dict], bool]:
    """Rows by number, and whether the end was reached."""
    found: dict[int, dict] = {}
    try:
        for row in db.execute(query):
            facts = dict(row)
            number = facts.pop("row")
            if number in found:  # a page that points back
                return found, False
            found[number] = facts
    except (sqlite3.Error, *NOT_UNDERSTOOD):
        return found, False
    return found, True


def _sound(table: str, row: dict) -> bool:
    """Whether a row says what such a row has to say."""
    if any(not isinstance(row.get(name), kind) for name, kind in TYPES[table].items()):
        return False
    try:
        if table == "item":
            body = json.loads(row["body"])
            if row["space"] is not None:
                Space.from_dict(json.loads(row["space"]))
            return isinstance(body, dict) and bool(row["kind"]) and isinstance(row["name"], str)
        if table == "change" and row["turns"] is None:
            unpacked(row)
        if table == "step":
            return all(isinstance(json.loads(row[name]), dict) for name in ("settings", "inputs", "outputs"))
        return True
    except Exception:  # whatever a damaged row does to its reader
        return False
