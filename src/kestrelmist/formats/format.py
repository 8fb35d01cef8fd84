"""What a format is, and the list of formats. Each module of this package registers its own."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from ..core.errors import Trouble, let_through
from ..core.image import Image
from ..core.registry import Registry
from ..core.regular import require_regular
from ..core.sentence import several_of
from ..core.waiting import reading
from .guarded import guard, no_memory


@dataclass(frozen=True)
class Format:
    """A family of files.

    Parameters
    ----------
    name : str
    endings : tuple of str
        Endings of the file names, in small letters.
    read : callable, optional
        `read(path)` gives the thing; `read(path, spacing)` when `takes_spacing`.
    write : callable, optional
        `write(path, thing, progress)`.
    written : tuple of str
        Endings under which it is written; `endings` when left out.
    starts : tuple of bytes
        First bytes that tell the format whatever the name.
    fits : callable, optional
        `fits(path, start)`: whether a file with one of the endings is of this format after all, by its first bytes.
    holds : tuple of str
        Names of the kinds it holds ("image", "label map", "table", "transform").
    folder : bool
        The "file" is a folder.
    sequenced : bool
        Single files may be parts of a sequence.
    listed : bool
        Files with its endings are listed in a plan even when they cannot be read; not so where a name says little.
    any_name : bool
        Files of any other name are of this format when `fits` says so.
    read_parts : callable, optional
        `read_parts(path, part)`: all things that a file holds, or those that a text names.
    read_numbers : callable, optional
        `read_numbers(path)`: an image whose numbers stay as they are stored where `read` makes colours of them.
    read_before : callable, optional
        `read_before(path)`: an image as older versions read it, for the grid of an older study to fit.
    instead : str
        Ending under which what it holds is written when it cannot be written itself.
    """

    name: str
    endings: tuple[str, ...]
    read: Callable[..., Any] | None = None
    write: Callable[..., None] | None = None
    written: tuple[str, ...] = ()
    starts: tuple[bytes, ...] = ()
    fits: Callable[[Path, bytes], bool] | None = None
    holds: tuple[str, ...] = ("image",)
    folder: bool = False
    takes_spacing: bool = False
    sequenced: bool = False
    listed: bool = True
    any_name: bool = False
    read_parts: Callable[[Path, str | None], list] | None = None
    read_numbers: Callable[..., Any] | None = None
    read_before: Callable[..., Any] | None = None
    instead: str = ".nii.gz"

    @property
    def ways_to_write(self) -> tuple[str, ...]:
        """Endings of names under which things can be written."""
        return (self.written or self.endings) if self.write else ()

    def open(self, path: Path, spacing=None) -> Any:
        """The thing in a file; every kind of damage comes out as a Trouble."""
        if self.read is None:
            raise Trouble(f"{self.name} files cannot be opened, only written", "choose another format", path)
        read = self.read
        found = self._guarded(path, lambda: read(path, spacing) if self.takes_spacing else read(path))
        return guard(found, path) if isinstance(found, Image) else found

    def open_numbers(self, path: Path) -> Any:
        """The image in a file with its numbers as they are stored, as labels are."""
        read = self.read_numbers
        return self.open(path) if read is None else guard(self._guarded(path, lambda: read(path)), path)

    def open_before(self, path: Path, spacing=None) -> Any:
        """The image in a file as older versions read it."""
        read = self.read_before
        return self.open(path, spacing) if read is None else guard(self._guarded(path, lambda: read(path)), path)

    def open_parts(self, path: Path, part: str | None) -> list:
        """All things that a file holds, or those that a text names."""
        read = self.read_parts
        return [self.open(path)] if read is None else self._guarded(path, lambda: read(path, part))

    def _guarded(self, path: Path, read: Callable[[], Any]) -> Any:
        require_regular(path)
        try:
            with reading(path):
                return read()
        except Trouble:
            raise
        except MemoryError as error:
            raise no_memory(path) from error
        except FileNotFoundError as error:
            raise Trouble("This file does not exist", "check the name", path) from error
        except PermissionError as error:
            raise Trouble("This file may not be read", "ask for permission to read it", path) from error
        except BaseException as error:  # a damaged file breaks libraries in many ways
            let_through(error)
            raise Trouble(f"This {self.name} file is damaged", "copy it again or convert it anew", path) from error


FORMATS: Registry[Format] = Registry("format", __package__, f"{__package__.rpartition('.')[0]}.report.files")


def register(known: Format) -> Format:
    """Make a format known."""
    return FORMATS.add(known.name, known)


def formats_holding(kind: str) -> list[Format]:
    return [f for f in FORMATS if kind in f.holds]


def format_of(path: Path, kind: str = "image") -> Format | None:
    """The format of a file (or a folder that is one image) that holds a kind of thing, by its first bytes and its name;
    None for DICOM and the unknown."""
    name = path.name.lower()
    known = [f for f in formats_holding(kind) if f.read]
    if path.is_dir():
        return next((f for f in known if f.folder and (name.endswith(f.endings) or is_zarr_folder(path))), None)
    try:
        require_regular(path)
        with reading(path), open(path, "rb") as stream:
            start = stream.read(160)
    except OSError:
        start = b""
    if start[128:132] == b"DICM":
        return None
    by_name = [
        f for f in known if not f.folder and name.endswith(f.endings) and (f.fits is None or f.fits(path, start))
    ]
    by_name = by_name or [f for f in known if f.any_name and f.fits is not None and f.fits(path, start)]
    by_start = [f for f in known if f.starts and start.startswith(f.starts)]
    # a format that both the name and the first bytes speak for goes before one that only one of them does
    return next((f for f in by_start if f in by_name), None) or next(iter(by_start or by_name), None)


def writer_for(path: Path, kind: str = "image") -> Format:
    """The format that a new file's name asks for; raises Trouble for endings nobody knows."""
    name = path.name.lower()
    known = [f for f in formats_holding(kind) if f.write]
    for ending, one in sorted(((e, f) for f in known for e in f.ways_to_write), key=lambda pair: -len(pair[0])):
        if name.endswith(ending) and len(name) > len(ending):
            return one
    endings = ", ".join(e for f in known for e in f.ways_to_write)
    what = f"{several_of(kind).capitalize()} cannot be written under this name"
    raise Trouble(what, f"end the name in one of: {endings}", path)


def is_zarr_folder(path: Path) -> bool:
    return (path / ".zgroup").is_file() or (path / "zarr.json").is_file()


def image_name(path: Path) -> str:
    """A file's name without the endings of its format."""
    name = path.name
    for ending in (".gz", ".bz2", ".ome.zarr", ".ome.tiff", ".ome.tif", *(e for f in FORMATS for e in f.endings)):
        if name.lower().endswith(ending) and len(name) > len(ending):
            name = name[: -len(ending)]
    return name


def words_for(kind: str) -> str:
    """The formats that hold a kind, for a person."""
    names = [f.name for f in formats_holding(kind) if f.read]
    return ("DICOM, " if kind == "image" else "") + ", ".join(names)
