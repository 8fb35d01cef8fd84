"""Changes: what can be done, turned round, written and read. Each kind of change registers itself."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Protocol

from ...core.labels import LabelTable
from ...core.patch import LabelEdit, Patch
from ...core.registry import Registry
from ..open_study import OpenStudy

if TYPE_CHECKING:
    import sqlite3


class Change(Protocol):
    """Something that happens to one thing of the study.

    `item` is the thing, `revision` the state of it that the change was made for (None: any), `kind` the name under
    which its form on disk is registered.
    """

    @property
    def kind(self) -> str: ...
    @property
    def item(self) -> int: ...
    @property
    def title(self) -> str: ...
    @property
    def revision(self) -> int | None: ...

    def write(self, study: OpenStudy, db: sqlite3.Connection) -> None:
        """What it does to the catalogue, inside the transaction that also writes the journal."""

    def apply(self, study: OpenStudy) -> None:
        """What it does in memory, once it is written."""

    def reversed(self) -> Change:
        """The change that takes it back."""
        ...

    def packed(self) -> tuple[bytes | None, str | None, str | None]:
        """The form the journal keeps: a body, and what was before and after as text."""
        ...


Unpack = Callable[[int, str, "bytes | None", "str | None", "str | None"], Change]
CHANGES: Registry[Unpack] = Registry("kind of change", "kestrelmist.study.stores")


def unpacked(row: Any) -> Change:
    """The change that a row of the journal holds."""
    unpack = CHANGES.get(row["kind"])
    if unpack is None:
        return UnknownChange(row["item_id"], row["title"], row["kind"])
    return unpack(row["item_id"], row["title"], row["body"], row["before"], row["after"])


@dataclass(frozen=True)
class LabelChange:
    """A change to the voxels or the table of a label map."""

    item: int
    edit: LabelEdit
    revision: int | None = None
    kind: str = "labels"

    @property
    def title(self) -> str:
        return self.edit.title

    def write(self, study: OpenStudy, db: sqlite3.Connection) -> None:
        pass  # the journal is where label maps live; a file follows from time to time

    def apply(self, study: OpenStudy) -> None:
        labels = study.maps.in_memory(self.item)
        if labels is not None:
            self.edit.apply(labels)

    def reversed(self) -> LabelChange:
        return LabelChange(self.item, self.edit.reversed())

    def packed(self) -> tuple[bytes | None, str | None, str | None]:
        edit = self.edit
        return edit.patch.to_bytes() if edit.patch else None, _json(edit.table_before), _json(edit.table_after)


def _unpack_labels(item: int, title: str, body: bytes | None, before: str | None, after: str | None) -> LabelChange:
    tables = [None if text is None else LabelTable.from_list(json.loads(text)) for text in (before, after)]
    return LabelChange(item, LabelEdit(title, Patch.from_bytes(body) if body else None, *tables))


def _json(table: LabelTable | None) -> str | None:
    return None if table is None else json.dumps(table.as_list())


@dataclass(frozen=True)
class ItemChange:
    """A change to fields of a row of the catalogue: its name, its place, whether it is on the Shelf."""

    item: int
    title: str
    before: dict
    after: dict
    revision: int | None = None
    kind: str = "item"

    def write(self, study: OpenStudy, db: sqlite3.Connection) -> None:
        study.items.update(db, self.item, self.after)

    def apply(self, study: OpenStudy) -> None:
        study.refresh(self.item)

    def reversed(self) -> ItemChange:
        return ItemChange(self.item, self.title, self.after, self.before)

    def packed(self) -> tuple[bytes | None, str | None, str | None]:
        return None, json.dumps(self.before), json.dumps(self.after)


def _unpack_item(item: int, title: str, body: bytes | None, before: str | None, after: str | None) -> ItemChange:
    return ItemChange(item, title, json.loads(before or "{}"), json.loads(after or "{}"))


@dataclass(frozen=True)
class UnknownChange:
    """A change that a newer version of the program has made; it is kept, and cannot be taken back here."""

    item: int
    title: str
    kind: str
    revision: int | None = None

    def write(self, study: OpenStudy, db: sqlite3.Connection) -> None:
        raise NotImplementedError(self.kind)

    def apply(self, study: OpenStudy) -> None:
        raise NotImplementedError(self.kind)

    def reversed(self) -> UnknownChange:
        return self

    def packed(self) -> tuple[bytes | None, str | None, str | None]:
        raise NotImplementedError(self.kind)


CHANGES.add("labels", _unpack_labels)
CHANGES.add("item", _unpack_item)
