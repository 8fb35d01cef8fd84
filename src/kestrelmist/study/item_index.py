"""The rows of a catalogue in memory, found by id, by place and by content: of thousands, one changes at a time."""

from __future__ import annotations

from bisect import bisect_left, insort
from collections.abc import Iterable
from typing import Generic, Protocol, TypeVar

Place = tuple[str, str, int | None]
"""Kind, subject, and the id of what a thing is of."""


class Listed(Protocol):
    """What a row has to say to be found."""

    @property
    def id(self) -> int: ...
    @property
    def kind(self) -> str: ...
    @property
    def subject(self) -> str: ...
    @property
    def of(self) -> int | None: ...
    @property
    def hash(self) -> str: ...


R = TypeVar("R", bound=Listed)


class ItemIndex(Generic[R]):
    """Records that are put in, changed and dropped one by one; only within the catalogue's guard."""

    def __init__(self) -> None:
        self.by_id: dict[int, R] = {}
        self._order: list[tuple[str, int]] = []
        self._places: dict[Place, dict[int, R]] = {}
        self._owned: dict[int, dict[int, R]] = {}
        self._alike: dict[str, dict[int, R]] = {}
        self._seen: dict[int, R] | None = None

    def put(self, record: R) -> None:
        """A new record, or one in place of an older one of its id."""
        before = self.by_id.get(record.id)
        if before is None or before.subject != record.subject:
            self.drop(record.id)
            insort(self._order, (record.subject, record.id))
        elif before is not record:
            self._unlist(before)
        self.by_id[record.id] = record
        self._places.setdefault((record.kind, record.subject, record.of), {})[record.id] = record
        if record.of is not None:  # another dict each time: one that is looked at stays as it is
            self._owned[record.of] = {**self._owned.get(record.of, {}), record.id: record}
        if record.hash:
            self._alike.setdefault(record.hash, {})[record.id] = record
        self._seen = None

    def drop(self, key: int) -> None:
        record = self.by_id.pop(key, None)
        if record is not None:
            self._unlist(record)
            del self._order[bisect_left(self._order, (record.subject, key))]
            self._seen = None

    def _unlist(self, record: R) -> None:
        self._places[record.kind, record.subject, record.of].pop(record.id, None)
        if record.of is not None:
            self._owned[record.of] = {k: r for k, r in self._owned[record.of].items() if k != record.id}
        if record.hash:
            self._alike[record.hash].pop(record.id, None)

    def everything(self) -> dict[int, R]:
        """All records by id, by subject and in the order they came; the same dict until something changes."""
        if self._seen is None:
            self._seen = {key: self.by_id[key] for _, key in self._order}
        return self._seen

    def at(self, place: Place) -> Iterable[R]:
        """Those of one kind and subject, of one thing."""
        return self._places.get(place, {}).values()

    def owned(self, key: int) -> list[R]:
        """What is of a thing, the oldest first."""
        return [record for _, record in sorted(self._owned.get(key, {}).items())]

    def alike(self, content: str) -> list[R]:
        """Those of one content, the oldest first."""
        return [record for _, record in sorted(self._alike.get(content, {}).items())]
