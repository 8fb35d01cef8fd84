"""What SQLite says when it fails, told apart as a person needs it: full, busy, no permission, gone, damaged."""

from __future__ import annotations

import sqlite3
import struct
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from ..core.errors import DiskFull, Trouble

FAILURES = (sqlite3.Error, UnicodeError, SystemError)
"""What a catalogue answers with; the words of SQLite on a damaged one may be no text."""
REBUILD = "close it everywhere and rebuild it (kestrelmist rebuild FOLDER), which leaves what is there now beside"


class Damaged(Trouble):
    """The catalogue, or a row of it, does not hold what it should."""


class Gone(Trouble):
    """The study's files are no longer where they were when it was opened."""


class Remains(Trouble):
    """A folder holds things of a study whose catalogue is missing."""


def is_full(error: BaseException) -> bool:
    """Whether a failure of SQLite means that there is no room."""
    return (getattr(error, "sqlite_errorcode", None) or 0) & 0xFF == sqlite3.SQLITE_FULL


def trouble_of(error: BaseException, path: Path, doing: str = "read") -> Trouble:
    """The sentence for a failed read or write of a catalogue.

    Parameters
    ----------
    doing : {"open", "read", "write"}
        For "write" it is said that the step was not kept.
    """
    code = (getattr(error, "sqlite_errorcode", None) or 0) & 0xFF
    kept = "; this step was not kept, everything before it is" if doing == "write" else ""
    if is_full(error):
        return DiskFull(f"The disk is full{kept}", "free some space and do it again", path)
    if code in (sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED, sqlite3.SQLITE_PROTOCOL):
        return Trouble(f"Another program is writing to this study{kept}", "wait for it and do it again", path)
    if code in (sqlite3.SQLITE_READONLY, sqlite3.SQLITE_PERM, sqlite3.SQLITE_AUTH):
        return Trouble(f"There is no permission to write to this study{kept}", "ask for it, or work on a copy", path)
    if code == sqlite3.SQLITE_NOMEM:
        return Trouble(f"There is not enough memory{kept}", "close other programs and do it again", path)
    if code == sqlite3.SQLITE_IOERR or code == sqlite3.SQLITE_CANTOPEN:
        if not path.exists():
            return Gone(f"The study is no longer there{kept}", "bring its folder or its disk back", path)
        return Trouble(
            f"The disk or the folder does not let the study be {'written' if doing == 'write' else 'read'}{kept}",
            "look whether the disk is full, still there, and may be written",
            path,
        )
    return Damaged(f"This study's catalogue is damaged or is not a study{kept}", REBUILD, path)


NOT_UNDERSTOOD = (ValueError, KeyError, TypeError, IndexError, AttributeError, ArithmeticError, MemoryError)


@contextmanager
def rows_understood(path: Path) -> Iterator[None]:
    """Whatever goes wrong in taking rows apart is damage: what the program has written itself can be taken apart."""
    try:
        yield
    except Trouble as trouble:
        if isinstance(trouble, (Damaged, Gone)):
            raise
        raise Damaged(f"This study's catalogue is damaged ({trouble.what})", REBUILD, path) from trouble
    except (*NOT_UNDERSTOOD, zlib.error, struct.error) as error:
        raise Damaged("This study's catalogue is damaged", REBUILD, path) from error


def remains(folder: Path) -> str:
    """What lies in a folder of a study that has been there, in words; "" when there is nothing of one."""
    found = []
    for name, one, many in (("images", "image", "images"), ("labels", "label map", "label maps")):
        place = folder / name
        count = sum(1 for p in place.iterdir() if p.name.isdigit()) if place.is_dir() else 0
        if count:
            found.append(f"{count} {one if count == 1 else many}")
    if not found and any(folder.glob("study.layout-*.db")):
        found.append("an older catalogue")
    log = folder / "study.db-wal"
    if not found and log.exists() and log.stat().st_size:
        found.append("the log of a catalogue")
    return " and ".join(found)
