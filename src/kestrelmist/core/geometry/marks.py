"""Marks that are kept together, and changes to them."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any, NamedTuple

import numpy as np

from ..errors import Trouble
from ..mapping import Mapping as WorldMapping
from ..names import plain_name
from ..world import World
from .mark import Mark
from .shape import shape_named

FEW = 64
"""Marks that an edit changes, up to which their bounds are followed one by one."""


class Lines(NamedTuple):
    """Outlines of marks in a row: points (m, 3), where each begins and the last one ends (n + 1,), normals (n, 3) with
    NaN of those that hold in every plane, depths (n,), and which fill a room (n,)."""

    points: np.ndarray
    starts: np.ndarray
    normals: np.ndarray
    depths: np.ndarray
    rooms: np.ndarray


@dataclass(frozen=True, eq=False)
class Marks:
    """Marks of one image, by number. Immutable: a change makes others.

    Parameters
    ----------
    marks : mapping of int to Mark
        Each knows its number; they stand in the order of their numbers, so one that comes back comes to its place.
    world : World
        In which their positions count.
    unit : str
        Of positions: "mm", or "px" where the image has no scale.
    name, subject : str
    of : str
        What they are of, in words.
    classes : int, optional
        Id of the class table that their classes are of, in the study that keeps them.
    """

    marks: Mapping[int, Mark] = field(default_factory=dict)
    world: World = field(default_factory=World)
    unit: str = "mm"
    name: str = "Marks"
    subject: str = ""
    of: str = ""
    classes: int | None = None

    def __post_init__(self):
        object.__setattr__(self, "name", plain_name(self.name) or "Marks")
        object.__setattr__(self, "subject", plain_name(self.subject))
        numbers = list(self.marks)
        if numbers != sorted(numbers):
            object.__setattr__(self, "marks", {n: self.marks[n] for n in sorted(numbers)})

    @classmethod
    def numbered(cls, marks: Iterable[Mark], **said: Any) -> Marks:
        """Marks with numbers from 1 on, in order."""
        return cls({n: replace(mark, id=n) for n, mark in enumerate(marks, 1)}, **said)

    def __iter__(self) -> Iterator[Mark]:
        return iter(self.marks.values())

    def __len__(self) -> int:
        return len(self.marks)

    def __contains__(self, number: int) -> bool:
        return number in self.marks

    def __getitem__(self, number: int) -> Mark:
        """The mark of a number; raises Trouble when there is none."""
        found = self.marks.get(number)
        if found is None:
            raise Trouble(f"There is no mark {number} in “{self.name}”", "list the marks to see their numbers")
        return found

    @property
    def next_id(self) -> int:
        """A number that no mark has."""
        return max(self.marks, default=0) + 1

    @cached_property
    def bounds(self) -> tuple[np.ndarray, np.ndarray]:
        """Numbers of the marks (n,), and the lowest and highest position of each, (n, 2, 3)."""
        ends = np.empty((len(self.marks), 2, 3))
        for n, mark in enumerate(self.marks.values()):
            ends[n] = _ends(mark)
        return np.fromiter(self.marks, np.int64, len(self.marks)), ends

    @cached_property
    def lines(self) -> Lines:
        """The outlines of all marks in a row, for whoever looks at many of them."""
        outlines = [mark.outline for mark in self]
        starts = np.concatenate(([0], np.cumsum([len(one) for one in outlines]))).astype(np.int64)
        points = np.concatenate(outlines) if outlines else np.zeros((0, 3))
        none = (np.nan,) * 3
        normals = np.array([none if mark.normal is None else mark.normal for mark in self], float).reshape(-1, 3)
        depths = np.array([mark.depth for mark in self], float)
        rooms = np.array([shape_named(mark.shape).cut is not None for mark in self], bool)
        return Lines(points, starts, normals, depths, rooms)

    @cached_property
    def deepest(self) -> float:
        """The largest depth of a mark, mm."""
        return max((mark.depth for mark in self), default=0.0)

    def within(self, low, high) -> list[Mark]:
        """Marks that reach into a box of the world, in their order."""
        keys, ends = self.bounds
        inside = ((ends[:, 1] >= np.asarray(low)) & (ends[:, 0] <= np.asarray(high))).all(1)
        return [self.marks[int(key)] for key in keys[inside]]

    def with_edit(self, edit: MarkEdit) -> Marks:
        """The marks after an edit."""
        after = dict(self.marks)
        for key, mark in edit.after.items():
            if mark is None:
                after.pop(key, None)
            else:
                after[key] = mark
        made = replace(self, marks=after)
        if "bounds" in self.__dict__ and len(edit.after) <= FEW:  # of tens of thousands one has changed
            made.__dict__["bounds"] = _bounds_after(*self.bounds, edit.after)
        return made

    def moved(self, mapping: WorldMapping) -> Marks:
        """The marks where a mapping brings them."""
        marks = {key: mark.moved(mapping.to) for key, mark in self.marks.items()}
        return replace(self, marks=marks, world=mapping.target)

    def content_hash(self) -> str:
        """SHA-256 of what they say."""
        return hashlib.sha256(json.dumps(self.as_dict(), sort_keys=True).encode()).hexdigest()

    def as_dict(self) -> dict[str, Any]:
        """As plain values, for JSON; name and subject stand in the row that keeps them."""
        return {
            "marks": [mark.as_dict() for mark in self],
            "world": self.world.as_dict(),
            "unit": self.unit,
            "of": self.of,
            **({} if self.classes is None else {"classes": self.classes}),
        }

    @classmethod
    def from_dict(cls, facts: dict[str, Any], name: str = "", subject: str = "") -> Marks:
        """Read back from `as_dict`; raises Trouble when one of them is no mark, or two have one number."""
        marks: dict[int, Mark] = {}
        for row in facts.get("marks") or ():
            mark = Mark.from_dict(row)
            if mark.id in marks or mark.id < 1:
                raise Trouble(f"Two marks of “{name}” have the number {mark.id}", "give each its own")
            marks[mark.id] = mark
        world, classes = World.from_dict(facts.get("world") or {}), facts.get("classes")
        said = {"unit": str(facts.get("unit") or "mm"), "of": str(facts.get("of") or "")}
        return cls(
            marks, world, **said, name=name, subject=subject, classes=classes if isinstance(classes, int) else None
        )


def _bounds_after(
    keys: np.ndarray, ends: np.ndarray, after: Mapping[int, Mark | None]
) -> tuple[np.ndarray, np.ndarray]:
    """Bounds when a few marks have changed."""
    ends = ends.copy()
    for key, mark in after.items():
        at = int(np.searchsorted(keys, key))
        there = at < len(keys) and keys[at] == key
        if mark is None and there:
            keys, ends = np.delete(keys, at), np.delete(ends, at, 0)
        elif mark is not None:
            if not there:
                keys, ends = np.insert(keys, at, key), np.insert(ends, at, 0.0, 0)
            ends[at] = _ends(mark)
    return keys, ends


def _ends(mark: Mark) -> tuple[np.ndarray, np.ndarray]:
    outline = mark.outline
    return outline.min(0), outline.max(0)


@dataclass(frozen=True, eq=False)
class MarkEdit:
    """A change to some marks, by number: what each was and is, None where there is none."""

    title: str
    before: Mapping[int, Mark | None]
    after: Mapping[int, Mark | None]

    @classmethod
    def between(cls, title: str, marks: Marks, after: Mapping[int, Mark | None]) -> MarkEdit:
        """The edit that gives some numbers other marks."""
        return cls(title, {key: marks.marks.get(key) for key in after}, dict(after))

    @classmethod
    def adding(cls, title: str, marks: Marks, new: Iterable[Mark]) -> MarkEdit:
        """The edit that adds marks, with numbers of their own."""
        first = marks.next_id
        return cls.between(title, marks, {key: replace(mark, id=key) for key, mark in enumerate(new, first)})

    @property
    def empty(self) -> bool:
        """Whether it changes nothing."""
        return all(self.before.get(key) == mark for key, mark in self.after.items())

    def fits(self, marks: Marks) -> bool:
        """Whether the marks that it changes are as it found them."""
        return all(marks.marks.get(key) == mark for key, mark in self.before.items())

    def anew(self, marks: Marks) -> MarkEdit:
        """The edit for marks that others have been added to meanwhile: what it adds gets other numbers.

        Raises Trouble when a mark that it changes has changed, or gone.
        """
        if self.fits(marks):
            return self
        added = [mark for key, mark in self.after.items() if self.before.get(key) is None and mark is not None]
        changed = {key: mark for key, mark in self.after.items() if self.before.get(key) is not None}
        if any(marks.marks.get(key) != self.before[key] for key in changed):
            raise Trouble("A mark has been changed meanwhile, so this step was not kept", "do it again")
        first = marks.next_id
        more = {key: replace(mark, id=key) for key, mark in enumerate(added, first)}
        return MarkEdit.between(self.title, marks, {**changed, **more})

    def reversed(self) -> MarkEdit:
        """The edit that takes it back."""
        return MarkEdit(self.title, self.after, self.before)

    def as_texts(self) -> tuple[str, str]:
        """Both sides as JSON."""
        before, after = (
            json.dumps({key: None if mark is None else mark.as_dict() for key, mark in side.items()})
            for side in (self.before, self.after)
        )
        return before, after

    @classmethod
    def from_texts(cls, title: str, before: str | None, after: str | None) -> MarkEdit:
        """Read back from `as_texts`."""
        sides = []
        for text in (before, after):
            rows = json.loads(text or "{}")
            sides.append({int(key): None if row is None else Mark.from_dict(row) for key, row in rows.items()})
        return cls(title, *sides)
