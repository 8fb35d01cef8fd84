"""A study's catalogue made anew: from what can be read of the old one, the copy of the Shelf, and the files."""

from __future__ import annotations

import fcntl
import shutil
import sqlite3
import tempfile
from contextlib import suppress
from datetime import datetime
from pathlib import Path

from ..core.errors import Asks, Trouble
from ..core.safe_write import write_trouble
from ..core.table import Table
from ..scene.thumbnail import thumbnail
from .catalogue_trouble import remains, trouble_of
from .found_rows import Found, same_history
from .salvage import TABLES, Salvaged, insert_rows, salvaged
from .schema import bring_up_to_date
from .study import Study


def rebuild(folder: str | Path, losses: str = "ask") -> Table:
    """Make a study's catalogue anew. The old one stays beside, as `study.damaged-DATE.db`.

    It is made from the best there is: the catalogue when it is whole, else the one with the most work in it, among
    those that were left beside as damaged or as copies of an older layout; then the copy of the Shelf, and the files.

    Parameters
    ----------
    folder : path
        The folder of a study that nobody has open.
    losses : "ask" or "accept"
        What to do when something would be lost: list it and do nothing, or go on.

    Returns
    -------
    A table of what was found, and where.

    Raises
    ------
    Trouble
        When the folder holds nothing of a study, the study is open, there is no room, or something would be lost that
        nobody has looked at (`Asks`, with the list).
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
            raise Trouble("This study is open in another window or command", "close it first", folder) from error
        try:
            found = _made_anew(folder, old, losses)
        except OSError as error:
            raise write_trouble(error, folder) from error
        except sqlite3.Error as error:
            raise trouble_of(error, old, "write") from error
    _draw_thumbnails(folder)
    return found.table()


def _made_anew(folder: Path, old: Path, losses: str) -> Found:
    with tempfile.TemporaryDirectory(prefix=".rebuild-", dir=folder) as place:
        found = Found(folder, _best_of(folder, Path(place)))
        found.complete()
        lost = found.losses()
        if lost.rows and losses != "accept":
            what = "Something of this study would be lost in rebuilding it; nothing was changed"
            more = "look at the list, and whether there is a backup; then say that it may be lost"
            raise Asks(what, more, folder, table=lost, setting="losses", answer="accept")
        made = Path(place) / "study.db"
        _write(made, found.rows)
        when = datetime.now().strftime("%Y%m%d-%H%M%S")
        while (folder / f"study.damaged-{when}.db").exists():  # none takes the place of another
            when += "-1"
        for path in sorted(folder.glob("study.db*")):
            path.rename(path.with_name(path.name.replace("study.db", f"study.damaged-{when}.db")))
        made.rename(old)
    return found


def _best_of(folder: Path, place: Path) -> list[Salvaged]:
    """What can be read of the catalogues in a folder, the one to build on first: the study's own, which is the latest,
    unless it was made anew from less than another one holds; then the one with the most work in it."""
    damaged = sorted(folder.glob("study.damaged-*.db"), reverse=True)
    copies = sorted(folder.glob("study.layout-*.db"), reverse=True)
    found: list[Salvaged] = []
    for path in [folder / "study.db", *damaged, *copies]:
        if not path.is_file() or not path.stat().st_size:
            continue
        aside = place / f"old-{len(found)}"
        aside.mkdir()
        for part in (path, path.with_name(f"{path.name}-wal")):
            if part.is_file():
                shutil.copyfile(part, aside / part.name)
        found.append(salvaged(aside / path.name))
        if path.name == "study.db" and found[0].whole and not damaged:
            return found
    others = sorted(found[1:], key=lambda one: -one.count)
    better = [one for one in others if one.count > found[0].count and not same_history(one.rows, found[0].rows)]
    return sorted(found, key=lambda one: (one is not better[0], -one.count)) if better else found[:1] + others


def _draw_thumbnails(folder: Path) -> None:
    """Small pictures of the images that have lost theirs; one that cannot be drawn stays without."""
    with suppress(Trouble), Study(folder) as study:
        for record in study.records():
            if study.thumbnail(record.id) is None:
                with suppress(Trouble), study.catalogue.change() as db:
                    drawn = thumbnail(study.image(record.id))
                    db.execute("UPDATE item SET thumbnail = ? WHERE id = ?", (drawn, record.id))


def _write(path: Path, rows: dict[str, list[dict]]) -> None:
    db = sqlite3.connect(path, isolation_level=None)
    try:
        bring_up_to_date(db, path)
        db.execute("BEGIN")
        for table in TABLES:
            insert_rows(db, table, rows[table])
        db.execute("COMMIT")
    finally:
        db.close()
