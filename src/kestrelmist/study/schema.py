"""The tables of study.db and the steps from each older version to the next."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

import numpy as np

from ..core.caveat import (
    NO_SCALE,
    NOTED,
    SCALE_UNSURE,
    SIDES_NOT_GIVEN,
    SIDES_UNKNOWN,
    SLICES_DOUBLED,
    SLICES_MISSING,
    SLICES_UNEVEN,
)
from ..core.errors import DiskFull, Trouble
from ..core.safe_write import write_trouble
from ..core.transform import Transform
from ..core.world import World
from .catalogue_trouble import FAILURES, is_full, trouble_of

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

VERSION_6 = """
ALTER TABLE step ADD COLUMN found TEXT NOT NULL DEFAULT '{}';
ALTER TABLE item ADD COLUMN made_of INTEGER;
"""

VERSION_4 = """
CREATE TABLE item (
    id INTEGER PRIMARY KEY, kind TEXT NOT NULL, subject_id INTEGER NOT NULL REFERENCES subject(id),
    of INTEGER REFERENCES item(id), name TEXT NOT NULL, space TEXT, hash TEXT NOT NULL DEFAULT '',
    body TEXT NOT NULL DEFAULT '{}', thumbnail BLOB, removed INTEGER NOT NULL DEFAULT 0, added TEXT NOT NULL);
CREATE INDEX item_place ON item(subject_id, kind, name);
CREATE TABLE step (
    id INTEGER PRIMARY KEY, made TEXT NOT NULL, who TEXT NOT NULL, operation TEXT NOT NULL, version INTEGER NOT NULL,
    title TEXT NOT NULL, settings TEXT NOT NULL, inputs TEXT NOT NULL, outputs TEXT NOT NULL,
    key TEXT NOT NULL, seconds REAL NOT NULL, program TEXT NOT NULL, undone INTEGER NOT NULL DEFAULT 0);
CREATE INDEX step_key ON step(key);
CREATE TABLE change (
    seq INTEGER PRIMARY KEY, entry INTEGER NOT NULL, turns INTEGER, session_id INTEGER NOT NULL REFERENCES session(id),
    item_id INTEGER NOT NULL, kind TEXT NOT NULL, title TEXT NOT NULL, made TEXT NOT NULL, step_id INTEGER,
    body BLOB, before TEXT, after TEXT);
CREATE INDEX change_item ON change(item_id, seq);
CREATE INDEX change_session ON change(item_id, session_id);
CREATE INDEX change_entry ON change(entry);
CREATE INDEX change_turns ON change(turns) WHERE turns IS NOT NULL;
CREATE TABLE version (
    id INTEGER PRIMARY KEY, item_id INTEGER NOT NULL, seq INTEGER NOT NULL, name TEXT NOT NULL, made TEXT NOT NULL);
"""


def _to_items(db: sqlite3.Connection) -> None:
    """From a table a kind to one of items, from the logbook to steps, from gestures to changes."""
    db.row_factory = sqlite3.Row
    for row in db.execute("SELECT * FROM image").fetchall():
        body = {key: json.loads(row[key]) for key in ("facts", "files", "reading", "axes")}
        body |= {key: row[key] for key in ("modality", "unit", "format")}
        body |= {"colour": bool(row["colour"]), "caveats": [_caveat(n) for n in json.loads(row["notes"])]}
        db.execute(
            "INSERT INTO item (id, kind, subject_id, name, space, hash, body, thumbnail, removed, added)"
            " VALUES (?, 'image', ?, ?, ?, ?, ?, ?, ?, ?)",
            (
                row["id"],
                row["subject_id"],
                row["name"],
                _space(row["space"]),
                row["hash"],
                json.dumps(body),
                row["thumbnail"],
                row["removed"],
                row["added"],
            ),
        )
    maps: dict[int, int] = {}
    for row in db.execute(
        "SELECT label_map.*, image.subject_id, image.added FROM label_map JOIN image ON image.id = image_id"
    ).fetchall():
        body = {"table": json.loads(row["labels"]), "file": row["file"], "file_seq": row["file_seq"]}
        taken = {r[0] for r in db.execute("SELECT name FROM item WHERE of = ?", (row["image_id"],))}
        name, n = row["name"], 2
        while name in taken:
            name, n = f"{row['name']} ({n})", n + 1
        maps[row["id"]] = db.execute(
            "INSERT INTO item (kind, subject_id, of, name, space, body, added) VALUES ('label map', ?, ?, ?, ?, ?, ?)",
            (row["subject_id"], row["image_id"], name, _space(row["space"]), json.dumps(body), row["added"]),
        ).lastrowid  # type: ignore[assignment]
    for row in db.execute("SELECT * FROM gesture ORDER BY seq").fetchall():
        db.execute(
            "INSERT INTO change (seq, entry, session_id, item_id, kind, title, made, body, before, after)"
            " VALUES (?, ?, ?, ?, 'labels', ?, ?, ?, ?, ?)",
            (
                row["seq"],
                row["seq"],
                row["session_id"],
                maps[row["label_map_id"]],
                row["title"],
                row["made"],
                row["patch"],
                row["labels_before"],
                row["labels_after"],
            ),
        )
    for row in db.execute("SELECT * FROM logbook ORDER BY id").fetchall():
        inputs, outputs = _things(db, json.loads(row["inputs"])), _things(db, json.loads(row["outputs"]))
        db.execute(
            "INSERT INTO step (id, made, who, operation, version, title, settings, inputs, outputs, key, seconds,"
            " program) VALUES (?, ?, '', ?, 1, ?, ?, ?, ?, '', ?, ?)",
            (
                row["id"],
                row["made"],
                row["operation"],
                row["title"],
                row["settings"],
                json.dumps(inputs),
                json.dumps(outputs),
                row["seconds"],
                row["program"],
            ),
        )
    tables = db.execute("SELECT * FROM result ORDER BY id").fetchall()
    if tables:
        db.execute("INSERT OR IGNORE INTO subject (name) VALUES ('')")
        nobody = db.execute("SELECT id FROM subject WHERE name = ''").fetchone()[0]
        for row in tables:
            content = json.loads(row["content"])
            body = {"columns": content["columns"], "rows": content["rows"], "step": row["logbook_id"]}
            db.execute(
                "INSERT INTO item (kind, subject_id, name, body, added) VALUES ('table', ?, ?, ?, ?)",
                (nobody, row["title"], json.dumps(body), row["made"]),
            )
    for table in ("gesture", "label_map", "result", "image", "logbook"):
        db.execute(f"DROP TABLE {table}")


def _things(db: sqlite3.Connection, named: dict[str, dict]) -> dict[str, list[dict]]:
    """Inputs or outputs of a step as things: their kind, whose they are, and their id where it can be told."""
    found: dict[str, list[dict]] = {}
    image = named.get("image", {})
    for role, facts in named.items():
        kind = {"labels": "label map", "table": "table"}.get(role, "image")
        thing = {"kind": kind, **{k: v for k, v in facts.items() if k in ("name", "subject", "hash")}}
        if kind == "label map" and image:
            thing |= {"of": image.get("name", ""), "subject": image.get("subject", "")}
        rows = db.execute("SELECT id FROM item WHERE kind = 'image' AND hash = ?", (facts.get("hash", ""),)).fetchall()
        if kind == "image" and len(rows) == 1:
            thing["item"] = rows[0][0]
        found.setdefault("image" if kind == "image" else role, []).append(thing)
    return found


def _space(text: str) -> str:
    facts = json.loads(text)
    world = World.from_dict(facts.pop("name", "scanner"))
    return json.dumps(facts | {"world": world.as_dict()})


def _caveat(note: str) -> dict:
    """A note of an older study with its code; the sentences are those that were written then."""
    codes = (
        ("does not say which side is which", SIDES_NOT_GIVEN),
        ("given by hand", SCALE_UNSURE),
        ("distance between the slices is not known", SCALE_UNSURE),
        ("sides are unknown", SIDES_UNKNOWN),
        ("gives no scale", NO_SCALE),
        ("missing in the stack", SLICES_MISSING),
        ("frames are missing", SLICES_MISSING),
        ("same place", SLICES_DOUBLED),
        ("uneven", SLICES_UNEVEN),
    )
    return {"code": next((code for words, code in codes if words in note), NOTED), "sentence": note}


def _to_relations(db: sqlite3.Connection) -> None:
    _together_to_transforms(db)
    _made_of_from_steps(db)


def _made_of_from_steps(db: sqlite3.Connection) -> None:
    """What a thing was made of stood in the logbook alone: from here on its row says it."""
    for inputs, outputs in db.execute("SELECT inputs, outputs FROM step ORDER BY id").fetchall():
        given, made = _items_in(inputs), _items_in(outputs)
        for key in made if given else ():
            if key not in given:
                db.execute("UPDATE item SET made_of = ? WHERE id = ? AND made_of IS NULL", (given[0], key))


def _items_in(text: str) -> list[int]:
    """Ids of the things that a step names; none where it cannot be made out."""
    with suppress(ValueError, AttributeError, TypeError):
        things = [t for several in json.loads(text).values() for t in several]
        return [t["item"] for t in things if isinstance(t, dict) and isinstance(t.get("item"), int)]
    return []


def _together_to_transforms(db: sqlite3.Connection) -> None:
    """That images of two spaces were meant to lie together stood in the row of one: now a transform says it."""
    for text, space in db.execute(
        "SELECT body, space FROM item WHERE kind = 'image' AND body LIKE '%\"together\"%'"
    ).fetchall():
        here = World.from_dict(json.loads(space)["world"])
        for key in json.loads(text).get("together") or ():
            row = db.execute(
                "SELECT subject_id, name, space FROM item WHERE id = ? AND kind = 'image'", (key,)
            ).fetchone()
            there = None if row is None else World.from_dict(json.loads(row["space"])["world"])
            if there is None or not there.id or there.is_one_with(here):
                continue
            facts, _ = (meant := Transform(np.eye(4), there, here)).facts()
            db.execute(
                "INSERT INTO item (kind, subject_id, name, hash, body, added) VALUES ('transform', ?, ?, ?, ?, ?)",
                (row["subject_id"], f"{row['name']} lies with another", meant.content_hash(), json.dumps(facts), ""),
            )


def _sections_to_images(db: sqlite3.Connection) -> None:
    """Sections knew their image by its name alone: from here on by its id, where one image of the subject has it."""
    curves = "SELECT id, subject_id, body FROM item WHERE kind = 'curve' AND of IS NULL"
    for key, subject, text in db.execute(curves).fetchall():
        body = json.loads(text)
        called = body.get("image") if body.get("line") else None
        if not isinstance(called, str):
            continue
        images = db.execute("SELECT id, name FROM item WHERE kind = 'image' AND subject_id = ?", (subject,)).fetchall()
        # of one volume of a series, the place stands behind the name
        fits = [(i, n) for i, n in images if called == n] or [(i, n) for i, n in images if called.startswith(f"{n}, ")]
        if len(fits) == 1:
            body["within"] = called.removeprefix(fits[0][1])
            db.execute("UPDATE item SET of = ?, body = ? WHERE id = ?", (fits[0][0], json.dumps(body), key))


def _lines_to_marks(db: sqlite3.Connection) -> None:
    """The line of a section was seven numbers in the row of its curve: from here on it is a mark."""
    for key, text in db.execute("SELECT id, body FROM item WHERE kind = 'curve' AND body LIKE '%\"line\"%'").fetchall():
        body = json.loads(text)
        line = body.pop("line", None)
        if isinstance(line, list) and len(line) == 7 and all(isinstance(v, (int, float)) for v in line):
            points = [[float(v) for v in line[:3]], [float(v) for v in line[3:6]]]
            body["mark"] = {"shape": "section", "points": points, "id": 0, "across": float(line[6])}
        db.execute("UPDATE item SET body = ? WHERE id = ?", (json.dumps(body), key))
    for row in db.execute(
        "SELECT seq, before, after FROM change WHERE kind = 'item' AND after LIKE '%body.line%'"
    ).fetchall():
        sides = [_mark_in(json.loads(text or "{}")) for text in row[1:]]
        db.execute("UPDATE change SET before = ?, after = ? WHERE seq = ?", (*map(json.dumps, sides), row[0]))


def _mark_in(facts: dict) -> dict:
    """Fields of a change of a curve's row, with a mark in place of a line."""
    line = facts.pop("body.line", None)
    if isinstance(line, list) and len(line) == 7:
        points = [line[:3], line[3:6]]
        facts["body.mark"] = {"shape": "section", "points": points, "id": 0, "across": line[6]}
    return facts


Step = tuple[str, Callable[[sqlite3.Connection], None] | None]
STEPS: tuple[Step, ...] = (
    (VERSION_1, None),
    (VERSION_2, None),
    (VERSION_3, None),
    (VERSION_4, _to_items),
    ("", _sections_to_images),
    (VERSION_6, _to_relations),
    ("", _lines_to_marks),
)
CURRENT = len(STEPS)


def bring_up_to_date(db: sqlite3.Connection, path, keep: bool = True) -> None:
    """Run the missing steps, all or none; `keep` says that the catalogue as it was is kept beside.

    Raises Trouble when the file was written by a newer version of the program, is no study at all, or there is no room.
    """
    try:
        version = version_of(db)
    except FAILURES as error:
        raise trouble_of(error, Path(path), "open") from error
    if version > CURRENT:
        raise Trouble(
            f"This study was last used with a newer version of Kestrelmist (layout {version}, this one knows up to"
            f" {CURRENT})",
            "open it with that version; nothing was changed",
            path,
        )
    if version == CURRENT:
        return
    try:
        if version and keep:
            _keep_copy(db, Path(path).with_name(f"study.layout-{version}.db"))
        db.execute("BEGIN IMMEDIATE")
        for script, more in STEPS[version:]:
            run_script(db, script)
            if more is not None:
                more(db)
        db.execute(f"PRAGMA user_version = {CURRENT}")
        db.execute("COMMIT")
    except BaseException as error:
        if db.in_transaction:  # SQLite has taken it back itself where the disk is full
            with suppress(sqlite3.Error):
                db.execute("ROLLBACK")
        if isinstance(error, sqlite3.Error) and version and is_full(error):
            what = "There is no room to bring this study up to date; it is as it was"
            raise DiskFull(what, "free some space and open it again", path) from error
        raise


def run_script(db: sqlite3.Connection, script: str) -> None:
    """Run the statements of a script within the transaction that is under way."""
    for statement in script.split(";"):
        if statement.strip():
            db.execute(statement)


def _keep_copy(db: sqlite3.Connection, path: Path) -> None:
    """The catalogue as it was, for the program that wrote it; one that is there already stays."""
    if path.exists():
        return
    beside = path.with_name(f".{path.name}.part")
    try:
        beside.unlink(missing_ok=True)
        copy = sqlite3.connect(beside)
        try:
            db.backup(copy)
        finally:
            copy.close()
        beside.rename(path)
    except OSError as error:
        raise write_trouble(error, path) from error
    finally:
        with suppress(OSError):
            beside.unlink(missing_ok=True)


def version_of(db: sqlite3.Connection) -> int:
    return db.execute("PRAGMA user_version").fetchone()[0]
