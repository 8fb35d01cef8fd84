"""What a store does: it prepares things for keeping, opens them again, and clears up after them.

Preparing may happen anywhere, in another process too: whatever takes long (hashing, copying, writing) is done into a
side folder. Taking in is a rename and a row.
"""

from __future__ import annotations

import os
import shutil
import tempfile
from abc import ABC, abstractmethod
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from ..core.errors import Trouble
from ..core.kind import is_read
from ..core.names import plain_name
from ..core.progress import Progress
from ..core.registry import Registry
from ..core.safe_write import write_trouble
from ..core.space import Space
from .items import Record
from .open_study import OpenStudy

SIDE = ".side-"
"""How the names of side folders begin."""


@dataclass
class Prepared:
    """A thing made ready to be kept: its row, and the side folder that holds its files."""

    kind: str
    name: str
    subject: str = ""
    space: Space | None = None
    hash: str = ""
    body: dict = field(default_factory=dict)
    thumbnail: bytes | None = None
    side: Path | None = None
    of: int | None = None
    with_it: list[Prepared] = field(default_factory=list)
    """Things that are of this one: labels that came with an image."""

    @property
    def is_read(self) -> bool:
        """Whether it is there to be read; see `core.kind.Kind`."""
        return is_read(self.kind)

    def __post_init__(self):
        self.name, self.subject = plain_name(self.name), plain_name(self.subject)  # files may hold anything

    def drop(self) -> None:
        """Throw the side folder away."""
        if self.side is not None:
            shutil.rmtree(self.side, ignore_errors=True)
        for other in self.with_it:
            other.drop()


class Store(ABC):
    """How one kind of thing is kept."""

    kind: str
    folder: str
    """Where the files of its things lie in the study, each in a folder named by its id."""

    @abstractmethod
    def prepare(self, study: OpenStudy, thing: Any, progress: Progress) -> Prepared:
        """Make a thing ready for keeping; touches nothing but a side folder."""

    @abstractmethod
    def open(self, study: OpenStudy, record: Record) -> Any:
        """The thing, its values still on disk where possible. Raises Trouble when its files are gone or damaged."""

    def files(self, study: OpenStudy, record: Record) -> list[Path]:
        """The study's own files of a thing, which go when it is deleted for good."""
        return [study.folder / self.folder / str(record.id)]

    def is_of_image(self, thing: Any) -> bool:
        """Whether a thing that an operation has made belongs to the first image it was given."""
        return False

    def moved(self, study: OpenStudy, record: Record, was: Space, now: Space) -> dict[str, Any]:
        """Fields of the row of a thing that change when the image it is of is placed elsewhere."""
        return {}

    def take(self, study: OpenStudy, prepared: Prepared, key: int) -> dict[str, Any]:
        """Bring the side folder to its place under the id; returns what changes in the row for it."""
        if prepared.side is None or not any(prepared.side.iterdir()):
            return {}
        home = study.folder / self.folder / str(key)
        try:
            home.parent.mkdir(exist_ok=True)
            if home.exists():
                raise Trouble("There is a folder of this name already", "move it away", home)
            prepared.side.rename(home)
        except OSError as error:
            raise write_trouble(error, home) from error
        return {}


STORES: Registry[Store] = Registry("store", f"{__package__}.stores")


def store_for(kind: str) -> Store:
    """The store of a kind; raises Trouble for kinds this program does not know."""
    found = STORES.get(kind)
    if found is None:
        raise Trouble(f"This version does not know things of the kind “{kind}”", "use the version that made it")
    return found


def side_folder(study: OpenStudy) -> Path:
    """A new folder beside the things of the study, on the same disk, so that taking it in is a rename."""
    try:
        return Path(tempfile.mkdtemp(prefix=f"{SIDE}{os.getpid()}-", dir=study.folder))
    except OSError as error:
        raise write_trouble(error, study.folder) from error


def clear_sides(folder: Path) -> None:
    """Throw away side folders that a process has left which is no more."""
    for path in folder.glob(f"{SIDE}*"):
        number = path.name[len(SIDE) :].split("-")[0]
        if not (number.isdigit() and _alive(int(number))):
            shutil.rmtree(path, ignore_errors=True)


def _alive(process: int) -> bool:
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    return True


def row_of(prepared: Prepared) -> Record:
    """The row of a thing that is about to be taken in."""
    return Record(
        0, prepared.kind, prepared.subject, prepared.name, prepared.of, prepared.space, prepared.hash, prepared.body
    )
