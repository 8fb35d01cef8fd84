"""Write beside, then rename: a file is either the old one or the whole new one, never half."""

from __future__ import annotations

import errno
import os
from contextlib import contextmanager, suppress
from pathlib import Path

from .errors import DiskFull, Trouble


@contextmanager
def written_whole(path: str | Path, mode: str = "wb", **kwargs):
    """Open a file beside `path` for writing; it takes the place of `path` when the block ends well.

    Raises Trouble when the disk is full or the folder cannot be written; `path` is then as it was.
    """
    path = Path(path)
    beside = path.with_name(f".{path.name}.{os.getpid()}.part")
    try:
        with open(beside, mode, **kwargs) as stream:
            yield stream
            stream.flush()
            os.fsync(stream.fileno())
        os.replace(beside, path)
    except OSError as error:
        raise write_trouble(error, path) from error
    finally:
        with suppress(OSError):  # where the folder is none, there is nothing beside it
            beside.unlink()


@contextmanager
def written_whole_path(path: str | Path):
    """The same for a library that opens files itself: gives the name of the file beside, which ends as `path` does."""
    path = Path(path)
    beside = path.with_name(f".{os.getpid()}.part.{path.name}")
    try:
        yield beside
        with open(beside, "rb+") as stream:
            os.fsync(stream.fileno())
        os.replace(beside, path)
    except OSError as error:
        raise write_trouble(error, path) from error
    finally:
        with suppress(OSError):
            beside.unlink()


def require_new(path: Path, replace: bool) -> None:
    """Raises Trouble when there is a file of a name already, and nobody said that it may be replaced."""
    if path.exists() and not replace:
        raise Trouble("There is a file of this name already", "name another, or say that it may be replaced", path)


def write_trouble(error: OSError, path: str | Path) -> Trouble:
    """The sentence for a failed write; libraries may have wrapped the system's error into another one."""
    inner: BaseException | None = error
    while inner is not None and not (isinstance(inner, OSError) and inner.errno):
        inner = inner.__cause__ or inner.__context__
    error = inner if isinstance(inner, OSError) else error
    if error.errno in (errno.ENOSPC, errno.EDQUOT, errno.EFBIG):
        return DiskFull("The disk is full; nothing was changed", "free some space and try again", path)
    if error.errno in (errno.EACCES, errno.EPERM, errno.EROFS):
        return Trouble("This place cannot be written to", "choose another folder or ask for write permission", path)
    if error.errno == errno.ENOENT:
        return Trouble("The folder to write into does not exist", "make it or choose another", path)
    if error.errno == errno.ENAMETOOLONG:
        return Trouble("This name is too long for the file system", "choose a shorter one", f"{str(path)[:80]}…")
    if error.errno in (errno.ENOTDIR, errno.EISDIR):
        return Trouble("A file stands where a folder should be, or the other way round", "name another place", path)
    if error.errno in (errno.ELOOP, errno.EINVAL):
        return Trouble("This name cannot be used for a file", "choose another", path)
    what = str(error.strerror or error).split("\n")[0][:200]
    return Trouble(f"Writing failed ({what})", "check the disk and try again", path)
