"""What a store does: it prepares things for keeping, opens them again, and clears up after them.

Preparing may happen anywhere, in another process too: whatever takes long (hashing, copying, writing) is done into a
side folder. Taking in is a rename and a row.
"""

from __future__ import annotations

import hashlib
import json
import os
import shutil
import sqlite3
import tempfile
from abc import ABC, abstractmethod
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, NamedTuple

from ..core.class_table import ClassTable
from ..core.errors import Trouble
from ..core.kind import is_read, owner_kind
from ..core.names import plain_name
from ..core.progress import Progress
from ..core.registry import Registry
from ..core.safe_write import write_trouble
from ..core.space import Space
from ..formats.format import format_of, words_for
from .given import Given
from .items import Record
from .journal.changes import Change
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


class ForEdit(NamedTuple):
    """The row that an edit is of, the revision that it fits (None for any), and whether the row was made for it."""

    key: int
    revision: int | None
    made: bool = False


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

    def at_hand(self, study: OpenStudy, record: Record) -> Any:
        """The thing as the study holds it in memory, opened where it does not."""
        return self.open(study, record)

    def identity(self, study: OpenStudy, record: Record) -> str:
        """What tells the present content and place of a thing: two of one identity give the same results."""
        place = "" if record.space is None else json.dumps(record.space.as_dict())
        place += record.body.get("told") or ""
        return f"{record.hash}{place and f':{hash_of(place)}'}"

    def on(self, study: OpenStudy, owner: Record) -> Record | Given:
        """Of a kind whose things are of others: the one that is worked on of a thing, or one still to be made."""
        raise Trouble(f"Nothing of the kind “{self.kind}” is worked on of “{owner.name}”", "name one")

    def blank(self, owner: Any, name: str = "") -> Any:
        """Of a kind that edits change: a thing with nothing in it, on an image or its row."""
        raise Trouble(f"A {self.kind} cannot be made out of nothing", "name one")

    def for_edit(self, study: OpenStudy, db: sqlite3.Connection, target: Given) -> ForEdit:
        """The row that an edit is of, made when it is still to be."""
        raise Trouble(f"A {self.kind} is not edited", "name something that is")

    def born(self, study: OpenStudy, target: Given) -> int | None:
        """What has become of a thing that was still to be made when it was given; None where it is not there."""
        return None

    def not_kept(self, study: OpenStudy, key: int, target: Given) -> None:
        """The transaction of an edit has failed: the row that `for_edit` made is not there."""
        return

    def change(self, study: OpenStudy, key: int, edit: Any, revision: int | None) -> Change:
        """An edit as a change of the journal."""
        raise Trouble(f"A {self.kind} is not edited", "name something that is")

    def following(self, study: OpenStudy, record: Record, classes: ClassTable, title: str) -> list[Change]:
        """What changes in a thing that uses a class table when that is another one."""
        return []

    def coming(self, study: OpenStudy, key: int, thing: Any, name: str) -> None:
        """A thing is being taken in under an id and a name, before anybody is told of it."""
        return

    def forget(self, study: OpenStudy, key: int) -> None:
        """Whatever is in memory under an id has gone, or was not kept."""
        return

    def ready(self, thing: Any, place: tuple[int, ...], fetch: bool, progress: Progress) -> Any:
        """A thing as an operation is given it: the part at a place, its values read when `fetch` says so."""
        return thing

    def from_file(self, path: Path, part: str | None, progress: Progress, onto: Space | None = None) -> list[Any]:
        """All things of the kind that a file holds, or those that a text names; raises Trouble when there is none.

        `onto` is the grid of the image that they are given with, for files that have none of their own.
        """
        known = format_of(path, self.kind)
        if known is None and (owner := owner_kind(self.kind)) and (path.is_dir() or format_of(path, owner) is not None):
            # what things are of may be named in their place
            return [self.blank(one) for one in store_for(owner).from_file(path, part, progress)]
        if known is None:
            raise Trouble(f"This kind of file holds no {self.kind}", f"{words_for(self.kind)} can be read", path)
        return known.open_parts(path, part)

    def held_by(self, thing: Any) -> list[Any]:
        """All things of the kind that a thing of another kind holds; see `core.kind.Kind.held_in`."""
        return [thing]

    def only(self, things: list[Any], path: Path | None, name: str = "") -> Any:
        """The one thing of several; raises Trouble when it cannot be told which is meant."""
        if len(things) == 1:
            return things[0]
        raise Trouble(f"There are {len(things)} {self.kind}s here", "name one of them behind a #", path)

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


def hash_of(text: str) -> str:
    """A short name for a text."""
    return hashlib.sha256(text.encode()).hexdigest()[:16]
