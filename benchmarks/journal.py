"""A stroke kept in a study with 50,000 gestures behind it."""

from __future__ import annotations

import sqlite3
import tempfile
from pathlib import Path

import numpy as np

from kestrelmist.core.image import Image
from kestrelmist.core.patch import LabelEdit, patch_from_indices
from kestrelmist.core.space import Space
from kestrelmist.study.study import Study

from .row import Row, best_of

GESTURES = 50_000


def rows() -> list[Row]:
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place) / "study"
        with Study(folder, create=True) as study:
            space = Space((64, 64, 64), np.eye(4))
            image = Image(np.random.default_rng(1).integers(0, 99, (64, 64, 64)).astype(np.int16), space, "Image", "S")
            from kestrelmist.study.journal.logbook import Step
            from kestrelmist.study.keeping import keep_image

            key, _ = keep_image(study, image, Step("gather", "Gather"))
            study.run("add-label", label="A")
            (labels,) = study.label_maps(key)
            index = np.arange(40, dtype=np.int64)
            body = patch_from_indices(index, np.zeros(40, np.uint16), 1).to_bytes()
            back = patch_from_indices(index, np.ones(40, np.uint16), 0).to_bytes()
            with study.catalogue.change() as db:
                first = db.execute("SELECT max(seq) FROM change").fetchone()[0] + 1
                db.executemany(
                    "INSERT INTO change (seq, entry, session_id, item_id, kind, title, made, body)"
                    " VALUES (?, ?, ?, ?, 'labels', 'Brush', '', ?)",
                    (
                        (first + n, first + n, study.session, labels.id, body if n % 2 == 0 else back)
                        for n in range(GESTURES)
                    ),
                )
                study.items.update(db, labels.id, {"body.file_seq": first + GESTURES - 1})
            study.history.forget()
            study.history.to_undo()
            edit = LabelEdit("Brush", patch_from_indices(index, np.zeros(40, np.uint16), 1))

            def stroke() -> None:
                study.maps.keep_edit(study.labels(key), edit)
                study.history.undo()

            mine = best_of(stroke, 20) / 2
            bare = sqlite3.connect(Path(place) / "bare.db", isolation_level=None)
            bare.execute("PRAGMA journal_mode = WAL")
            bare.execute("PRAGMA synchronous = FULL")
            bare.execute("CREATE TABLE change (seq INTEGER PRIMARY KEY, body BLOB)")
            theirs = best_of(lambda: bare.execute("INSERT INTO change (body) VALUES (?)", (body,)), 20)
            bare.close()
    return [
        Row(
            f"a stroke kept, and undone, after {GESTURES:,} others (each)".replace(",", " "),
            mine,
            theirs,
            "one bare INSERT that is on disk",
            "at most 20 ms",
            met=mine <= 0.02,
        )
    ]
