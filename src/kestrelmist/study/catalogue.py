"""The open study.db: one connection, its lock, and its errors as sentences."""

from __future__ import annotations

import fcntl
import json
import os
import shutil
import sqlite3
import tempfile
import threading
import time
from collections.abc import Callable
from contextlib import contextmanager, suppress
from datetime import datetime
from pathlib import Path
from typing import IO

from ..core.errors import Trouble
from ..core.safe_write import write_trouble
from .catalogue_trouble import FAILURES, REBUILD, Gone, Remains, remains, trouble_of
from .schema import CURRENT, bring_up_to_date, version_of

TO_CLOSE = 3.0
"""s that a query in another thread is waited for when a study is closed."""
PATIENCE = 10.0
"""Seconds in which somebody else makes a study, or brings it up to date."""


OPEN_ELSEWHERE = "it is open in another window or command"


def now() -> str:
    return datetime.now().astimezone().isoformat(timespec="seconds")


class Catalogue:
    """SQLite behind a study folder.

    The first window that opens a study holds a lock on `study.lock` for as long as it lives (the system lets go
    of it when the process dies, however it dies); any later one gets `read_only`, and `why_read_only` says why.
    """

    def __init__(self, folder: Path, create: bool, read_only: bool = False):
        self.folder, self.path, self.closed = folder, folder / "study.db", False
        self._lock_file: IO[str] | None = None
        self.why_read_only = ""
        self.guard = threading.RLock()
        """Held by whoever reads or writes, and through a whole transaction."""
        self.kept: list[Callable[[], None]] = []
        """Called within the guard when a transaction is on disk."""
        self.taken_back: list[Callable[[], None]] = []
        """Called within the guard when a transaction was taken back: what was read in it does not hold."""
        self._writes: int | None = None
        """The thread whose transaction is under way."""
        self._beside: sqlite3.Connection | None = None
        self._beside_guard = threading.Lock()
        self._copy: Path | None = None
        self._identity: tuple[int, int] | None = None
        if not _holds_something(self.path):
            self._prepare_new(create)
        if read_only:
            self.why_read_only = "it was opened for reading"
        elif not os.access(folder, os.W_OK) or (self.path.exists() and not os.access(self.path, os.W_OK)):
            self.why_read_only = "you have no permission to write in its folder"
        elif not self._take_lock():
            self.why_read_only = OPEN_ELSEWHERE
        self.db = self._connect()
        if not self.read_only:
            self._identity = _identity(self.path)

    @property
    def read_only(self) -> bool:
        return bool(self.why_read_only)

    def _prepare_new(self, create: bool) -> None:
        there = remains(self.folder)
        if there:
            raise Remains(
                f"The catalogue of this study is missing, and {there} lie in its folder", REBUILD, self.folder
            )
        if not create:
            raise Trouble(
                "There is no study in this folder",
                "choose a folder that holds a study.db, or make a new study",
                self.folder,
            )
        try:
            for name in ("images", "labels"):
                (self.folder / name).mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise Trouble("A study cannot be made here", "choose a folder you may write in", self.folder) from error
        if not os.access(self.folder, os.W_OK):
            raise Trouble("A study cannot be made here", "choose a folder you may write in", self.folder)

    def _take_lock(self) -> bool:
        try:
            lock = open(self.folder / "study.lock", "a")
        except OSError as error:
            raise Trouble(
                "The lock of this study cannot be opened", "move study.lock away", self.folder / "study.lock"
            ) from error
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            lock.close()
            return False
        self._lock_file = lock
        return True

    def _connect(self) -> sqlite3.Connection:
        try:
            if self.read_only:
                return self._connect_to_read()
            db = sqlite3.connect(self.path, isolation_level=None, check_same_thread=False, timeout=5)
            try:
                bring_up_to_date(db, self.path)
                db.execute("PRAGMA journal_mode = WAL")
                db.execute("PRAGMA synchronous = FULL")  # a gesture survives a machine that dies, not only a process
                db.execute("PRAGMA foreign_keys = ON")
            except BaseException:
                db.close()
                self.close_lock()
                raise
        except FAILURES as error:
            self.close_lock()
            raise trouble_of(error, self.path, "open") from error
        db.row_factory = sqlite3.Row
        return db

    def _connect_to_read(self) -> sqlite3.Connection:
        self._wait_until_made()
        db = sqlite3.connect(
            f"{self.path.resolve().as_uri()}?mode=ro",
            uri=True,
            isolation_level=None,
            check_same_thread=False,
            timeout=5,
        )
        try:
            version = version_of(db)
        except sqlite3.OperationalError:
            # a folder without write permission cannot hold the shared-memory file of the log, which has the last steps
            db.close()
            db = sqlite3.connect(self._copied_aside(), isolation_level=None, check_same_thread=False)
            version = version_of(db)
        if version > CURRENT:
            db.close()
            raise Trouble(
                f"This study has layout {version} and this program uses {CURRENT}",
                "open it with the newer version",
                self.path,
            )
        if version < CURRENT:  # a copy of an older one is brought up to date, and read by
            db.close()
            db = sqlite3.connect(self._copied_aside(), isolation_level=None, check_same_thread=False)
            try:
                bring_up_to_date(db, self.path, keep=False)
            except BaseException:
                db.close()
                self._drop_copy()
                raise
        db.row_factory = sqlite3.Row
        return db

    def _wait_until_made(self) -> None:
        """Another window or command that holds the lock may be about to make the study, or to bring it up to date.

        Raises Trouble when that goes on.
        """
        end = time.monotonic() + PATIENCE
        while self.why_read_only == OPEN_ELSEWHERE and not self._made():
            if time.monotonic() > end:
                raise Trouble(
                    "This study is being made or brought up to date by another window or command",
                    "try again in a moment",
                    self.path,
                )
            time.sleep(0.05)

    def _made(self) -> bool:
        try:
            if not self.path.stat().st_size:
                return False
            db = sqlite3.connect(f"{self.path.resolve().as_uri()}?mode=ro", uri=True, timeout=5)
            try:
                return version_of(db) > 0  # made and brought up to date in one transaction each
            finally:
                db.close()
        except FileNotFoundError:
            return False
        except sqlite3.Error:
            return True  # said when it is opened

    def require_writable(self) -> None:
        """Raises Trouble when the study can only be read here."""
        if self.read_only:
            raise Trouble(
                f"This study can only be read here: {self.why_read_only}",
                "close the other window, or work on a copy"
                if "window" in self.why_read_only
                else "ask for permission, or work on a copy",
                self.folder,
            )

    @property
    def there(self) -> bool:
        """Whether the files that were opened are still the study's."""
        return self._identity is None or _identity(self.path) == self._identity

    def require_there(self) -> None:
        """Raises Gone when somebody has taken the study away; SQLite would go on writing to a file without a name."""
        if not self.there:
            raise Gone(
                "The study is no longer where it was opened; this step was not kept, everything before it is in memory",
                "bring its folder or its disk back, or save the study elsewhere",
                self.path,
            )

    def _copied_aside(self) -> Path:
        try:
            if self._copy is None:
                self._copy = Path(tempfile.mkdtemp(prefix="kestrelmist-"))
            for ending in ("", "-wal"):
                source = self.path.with_name(self.path.name + ending)
                if source.exists():
                    shutil.copyfile(source, self._copy / source.name)
        except OSError as error:
            raise write_trouble(error, self._copy or Path(tempfile.gettempdir())) from error
        return self._copy / self.path.name

    @contextmanager
    def change(self):
        """A transaction: all or nothing.

        Raises Trouble when the study is read-only or the disk is full.
        """
        self.require_writable()
        with self.guard:
            if self.db.in_transaction:  # part of a larger change, which commits or takes back the whole
                yield self.db
                return
            try:
                self.db.execute("BEGIN IMMEDIATE")
                self._writes = threading.get_ident()
                yield self.db
                self.require_there()
                self.db.execute("COMMIT")
                for tell in self.kept:
                    tell()
            except BaseException as error:
                with suppress(sqlite3.Error):  # the disk may be gone
                    if self.db.in_transaction:
                        self.db.execute("ROLLBACK")
                for forget in self.taken_back:
                    forget()
                if isinstance(error, FAILURES) and not isinstance(error, sqlite3.ProgrammingError):
                    raise trouble_of(error, self.path, "write") from error
                raise
            finally:
                self._writes = None

    @property
    def writes_here(self) -> bool:
        """Whether this thread is in the midst of a transaction."""
        return self._writes == threading.get_ident()

    @property
    def writes_elsewhere(self) -> bool:
        """Whether another thread is."""
        return self._writes is not None and not self.writes_here

    def rows(self, query: str, *values) -> list[sqlite3.Row]:
        """What is on disk; for the thread that is in the midst of a transaction, what it has written."""
        beside = self.writes_elsewhere
        with self._beside_guard if beside else self.guard:
            try:
                return (self._connection_beside() if beside else self.db).execute(query, values).fetchall()
            except sqlite3.ProgrammingError:
                raise
            except FAILURES as error:
                raise trouble_of(error, self.path) from error

    def _connection_beside(self) -> sqlite3.Connection:
        """Another connection, to read by while a worker writes: a slow disk that it waits for does not hold up the
        window."""
        if self.closed:
            raise sqlite3.ProgrammingError("Cannot operate on a closed database.")
        if self._beside is None:
            self._beside = sqlite3.connect(
                f"{self.path.resolve().as_uri()}?mode=ro", uri=True, isolation_level=None, check_same_thread=False
            )
            self._beside.row_factory = sqlite3.Row
        return self._beside

    def remember(self, key: str, value) -> None:
        """Keep a piece of the view (place of the crosshair, stage …) as JSON."""
        with self.change() as db:
            db.execute("INSERT OR REPLACE INTO view VALUES (?, ?)", (key, json.dumps(value)))

    def recall(self, key: str, default=None):
        found = self.rows("SELECT value FROM view WHERE key = ?", key)
        try:
            return json.loads(found[0]["value"]) if found else default
        except ValueError:  # of a view nothing is lost that could not be looked at again
            return default

    def close_lock(self) -> None:
        if self._lock_file:
            self._lock_file.close()
            self._lock_file = None

    def start_session(self) -> int | None:
        """A row for the time that this window or command has the study open."""
        with self.change() as db:
            return db.execute("INSERT INTO session (started) VALUES (?)", (now(),)).lastrowid

    def end_session(self, session: int | None) -> None:
        with self.change() as db:
            db.execute("UPDATE session SET ended = ? WHERE id = ?", (now(), session))

    def close(self) -> None:
        """Let go of the file. Who still reads it in another thread is waited for: a connection that is closed under a
        query takes the process with it. One that hangs, as on a drive that is gone, is left to itself."""
        self.closed = True
        for guard, db in ((self._beside_guard, self._beside), (self.guard, self.db)):
            if db is not None and guard.acquire(timeout=TO_CLOSE):
                try:
                    with suppress(sqlite3.Error):
                        db.close()
                finally:
                    guard.release()
        self.close_lock()
        self._drop_copy()

    def _drop_copy(self) -> None:
        if self._copy is not None:
            shutil.rmtree(self._copy, ignore_errors=True)
            self._copy = None


def _holds_something(path: Path) -> bool:
    try:
        return path.stat().st_size > 0
    except OSError:
        return False


def _identity(path: Path) -> tuple[int, int] | None:
    try:
        found = os.stat(path)
    except OSError:
        return None
    return found.st_dev, found.st_ino
