"""One run at a time writes to a target, beside it first; what a run that was killed has left is cleared by the next."""

from __future__ import annotations

import fcntl
import os
import shutil
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from .errors import Trouble
from .safe_write import write_trouble


@contextmanager
def claimed(target: Path, keep: bool = False) -> Iterator[Path]:
    """Claim a file or folder that is about to be written; gives the path beside it to write to.

    The path beside is free when the block begins and is cleared when it ends; the block gives it its name by renaming.
    With `keep`, what an earlier run has left there stays, and so does what this one leaves: for work that goes on where
    it was stopped. The claim is the system's lock on a small file beside, so that it ends with the process, however
    that ends.

    Raises
    ------
    Trouble
        When another run is writing to the same target, or the folder cannot be written to.
    """
    target = Path(target)
    mark = target.with_name(f".{target.name}.claim")
    try:
        target.parent.mkdir(parents=True, exist_ok=True)
        lock = _locked(mark)
    except OSError as error:
        raise write_trouble(error, target) from error
    if lock is None:
        raise Trouble("Another run is writing to this place", "wait for it, or name another", target)
    beside = target.with_name(f".{target.name}.part")
    try:
        for left in (
            ()
            if keep
            else (beside, beside.with_name(f".{beside.name}.part"), beside.with_name(f".{beside.name}.claim"))
        ):
            _clear(left)
        yield beside
    finally:
        if not keep:
            _clear(beside)
        with suppress(OSError):
            mark.unlink()
        os.close(lock)


def _locked(mark: Path) -> int | None:
    """The locked file; None when another process has it. One that was taken away between is made again."""
    while True:
        lock = os.open(mark, os.O_CREAT | os.O_RDWR | os.O_CLOEXEC, 0o600)
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            os.close(lock)
            return None
        with suppress(OSError):
            if os.stat(mark).st_ino == os.fstat(lock).st_ino:
                return lock
        os.close(lock)


def _clear(path: Path) -> None:
    if path.is_dir() and not path.is_symlink():
        shutil.rmtree(path, ignore_errors=True)
    else:
        with suppress(OSError):
            path.unlink()
