"""Rows out of a damaged catalogue: what can be read is read, row by row, and the rest is counted."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterator
from pathlib import Path

from ..core.space import Space
from .catalogue_trouble import NOT_UNDERSTOOD
from .changes import unpacked
from .schema import CURRENT, bring_up_to_date, version_of

TABLES = ("subject", "session", "item", "step", "change", "version", "view")
PROBED = 2000
"""Row numbers tried one by one in a stretch that cannot be read in a row."""


def salvaged_rows(path: Path) -> dict[str, list[dict]]:
    """All rows that can be read, by table; none when the file is no catalogue of any layout known here.

    Parameters
    ----------
    path : path
        A copy of the catalogue, with its log beside it: reading it may change it.
    """
    db = sqlite3.connect(path, isolation_level=None)
    db.row_factory = sqlite3.Row
    db.text_factory = lambda raw: raw.decode("utf-8", "replace")
    try:
        try:
            if 0 < version_of(db) < CURRENT:
                bring_up_to_date(db, path)
        except Exception:  # an old layout that cannot be brought up to date: its tables are other ones
            return {}
        return {table: [row for row in _rows(db, table) if _sound(table, row)] for table in TABLES}
    finally:
        db.close()


def _rows(db: sqlite3.Connection, table: str) -> Iterator[dict]:
    """From the front until a row cannot be read, from the back until one cannot, and one by one between."""
    front, last = _read(db, f"SELECT rowid AS row, * FROM {table} ORDER BY rowid")
    yield from front.values()
    if last:
        return
    high = max(front, default=0)
    back, _ = _read(db, f"SELECT rowid AS row, * FROM {table} WHERE rowid > {high} ORDER BY rowid DESC")
    for number in range(high + 1, min(min(back, default=high + PROBED), high + PROBED)):
        found, _ = _read(db, f"SELECT rowid AS row, * FROM {table} WHERE rowid = {number}")
        yield from found.values()
    yield from (back[number] for number in sorted(back))


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
