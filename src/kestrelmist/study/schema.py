"""The tables of study.db and the steps from each older version to the next."""

from __future__ import annotations

import sqlite3

from ..core.errors import Trouble

VERSION_1 = """
CREATE TABLE study (key TEXT PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE subject (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE);
CREATE TABLE image (
    id INTEGER PRIMARY KEY, subject_id INTEGER NOT NULL REFERENCES subject(id), name TEXT NOT NULL,
    modality TEXT NOT NULL, unit TEXT NOT NULL, space TEXT NOT NULL, facts TEXT NOT NULL,
    format TEXT NOT NULL, files TEXT NOT NULL, reading TEXT NOT NULL, notes TEXT NOT NULL, hash TEXT NOT NULL,
    thumbnail BLOB, removed INTEGER NOT NULL DEFAULT 0, added TEXT NOT NULL);
CREATE TABLE label_map (
    id INTEGER PRIMARY KEY, image_id INTEGER NOT NULL REFERENCES image(id), name TEXT NOT NULL,
    space TEXT NOT NULL, labels TEXT NOT NULL, file TEXT, file_seq INTEGER NOT NULL DEFAULT 0);
CREATE TABLE session (id INTEGER PRIMARY KEY, started TEXT NOT NULL, ended TEXT);
CREATE TABLE gesture (
    seq INTEGER PRIMARY KEY, session_id INTEGER NOT NULL REFERENCES session(id),
    label_map_id INTEGER NOT NULL REFERENCES label_map(id), title TEXT NOT NULL, made TEXT NOT NULL,
    patch BLOB, labels_before TEXT, labels_after TEXT);
CREATE TABLE logbook (
    id INTEGER PRIMARY KEY, made TEXT NOT NULL, operation TEXT NOT NULL, title TEXT NOT NULL,
    settings TEXT NOT NULL, inputs TEXT NOT NULL, outputs TEXT NOT NULL, seconds REAL NOT NULL, program TEXT NOT NULL);
CREATE TABLE view (key TEXT PRIMARY KEY, value TEXT NOT NULL);
"""

VERSION_2 = """
CREATE TABLE result (
    id INTEGER PRIMARY KEY, logbook_id INTEGER REFERENCES logbook(id), title TEXT NOT NULL, made TEXT NOT NULL,
    content TEXT NOT NULL);
"""

VERSION_3 = """
ALTER TABLE image ADD COLUMN axes TEXT NOT NULL DEFAULT '[]';
ALTER TABLE image ADD COLUMN colour INTEGER NOT NULL DEFAULT 0;
"""

STEPS = (VERSION_1, VERSION_2, VERSION_3)
CURRENT = len(STEPS)


def bring_up_to_date(db: sqlite3.Connection, path) -> None:
    """Run the missing steps, each whole or not at all.

    Raises Trouble when the file was written by a newer version of the program, or is no study at all.
    """
    try:
        version = db.execute("PRAGMA user_version").fetchone()[0]
    except sqlite3.DatabaseError as error:
        raise Trouble("This study's catalogue is damaged or is not a study", "bring back a copy of study.db", path) from error
    if version > CURRENT:
        raise Trouble(f"This study was last used with a newer version of Kestrelmist (layout {version}, this one knows up to"
                      f" {CURRENT})", "open it with that version; nothing was changed", path)
    for number in range(version, CURRENT):
        db.executescript(f"BEGIN IMMEDIATE;{STEPS[number]}PRAGMA user_version = {number + 1};COMMIT;")


def version_of(db: sqlite3.Connection) -> int:
    return db.execute("PRAGMA user_version").fetchone()[0]
