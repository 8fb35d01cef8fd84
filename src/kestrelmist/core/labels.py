"""Label maps: one whole number a voxel, and a table that says what each number means."""

from __future__ import annotations

import hashlib
import math
import mmap
from dataclasses import dataclass, fields, replace

import numpy as np

from .errors import Trouble
from .mapping import Mapping
from .names import plain_name, typed_name
from .space import Space

PALETTE = ("#E0A24B", "#56A8C7", "#D9634F", "#7E6BB5", "#5E9E66", "#C9699C", "#8C6A4A", "#9FB03C", "#3F6FB0", "#B7B1A2")
"""Default label colours, chosen to differ in lightness as well as hue for colour-blind eyes."""

LARGEST = 65535


def unnamed(number: int) -> str:
    """What a label is called that nobody has named."""
    return f"Label {number}"


@dataclass(frozen=True)
class Label:
    """One row of a label table."""

    number: int
    name: str
    colour: str
    locked: bool = False
    hidden: bool = False
    subject: str = ""
    """Whose it is when it came from a file that says so; "" when it was drawn here."""
    bridged: str = ""
    """Slices that were filled in between others and that nobody has looked at yet (`outline.slices.unseen`)."""

    def __post_init__(self):
        # files may hold anything
        object.__setattr__(self, "name", plain_name(self.name) or unnamed(self.number))
        object.__setattr__(self, "subject", plain_name(self.subject))


class LabelTable:
    """The labels of a label map, by number. Names are unique. Immutable: changes make a new table."""

    def __init__(self, labels=()):
        self.labels: tuple[Label, ...] = tuple(sorted(labels, key=lambda label: label.number))
        self._by_number = {label.number: label for label in self.labels}

    def __iter__(self):
        return iter(self.labels)

    def __len__(self) -> int:
        return len(self.labels)

    def __contains__(self, number: int) -> bool:
        return number in self._by_number

    def __getitem__(self, number: int) -> Label:
        return self._by_number[number]

    def __eq__(self, other) -> bool:
        return isinstance(other, LabelTable) and self.labels == other.labels

    def __hash__(self) -> int:
        return hash(self.labels)

    def get(self, number: int) -> Label | None:
        """The row of a number, None when it has none."""
        return self._by_number.get(number)

    def named(self, name: str) -> Label:
        """The label of that name (capitals do not matter); raises Trouble when there is none."""
        for label in self.labels:
            if label.name.casefold() == name.strip().casefold():
                return label
        have = ", ".join(label.name for label in self.labels) or "none yet"
        raise Trouble(f"There is no label “{name}”", f"choose one of the labels there are ({have}) or make it first")

    def has_name(self, name: str) -> bool:
        """Whether a label is called so, whatever its capitals."""
        return any(label.name.casefold() == name.strip().casefold() for label in self.labels)

    def with_new(self, name: str, colour: str | None = None) -> tuple[LabelTable, Label]:
        """A table with one more label, at the lowest free number."""
        name = typed_name(name)
        if not name:
            raise Trouble("A label needs a name", "type one")
        if self.has_name(name):
            raise Trouble(f"There is a label “{name}” already", "choose another name")
        number = self.free_number()
        label = Label(number, name, colour or PALETTE[(number - 1) % len(PALETTE)])
        return LabelTable((*self.labels, label)), label

    def free_number(self) -> int:
        """The lowest number that is not used; raises Trouble when there is none."""
        number = next(n for n in range(1, LARGEST + 2) if n not in self)
        if number > LARGEST:
            raise Trouble("All label numbers are used", "remove labels that are not needed")
        return number

    def changed(self, number: int, **changes) -> LabelTable:
        """A table with one label changed (name, colour, locked, hidden)."""
        if number not in self:
            raise Trouble(f"There is no label with number {number}", "choose one of the list")
        if "name" in changes:
            changes["name"] = typed_name(changes["name"])
            other = [label for label in self.labels if label.number != number]
            if not changes["name"] or LabelTable(other).has_name(changes["name"]):
                raise Trouble(f"A label cannot be called “{changes['name']}”", "choose a name that is not used yet")
        return LabelTable(replace(label, **changes) if label.number == number else label for label in self.labels)

    def without(self, number: int) -> LabelTable:
        """The table without the row of a number."""
        return LabelTable(label for label in self.labels if label.number != number)

    def as_list(self) -> list[dict]:
        """As plain values, for JSON."""
        return [dict(vars(label)) for label in self.labels]  # fields are plain: copies of them would cost

    @classmethod
    def from_list(cls, rows) -> LabelTable:
        """Read back from `as_list`; fields of another version are passed over."""
        known = {f.name for f in fields(Label)}
        return cls(Label(**{k: v for k, v in row.items() if k in known}) for row in rows)


class LabelMap:
    """Label numbers on the grid of a Space.

    Parameters
    ----------
    space : Space
    data : uint16 array [i, j, k], optional
        Zero everywhere when left out.
    table : LabelTable, optional
        Numbers found in `data` without a row get one, named "Label N".
    """

    def __init__(
        self,
        space: Space,
        data: np.ndarray | None = None,
        table: LabelTable | None = None,
        name: str = "Labels",
        subject: str = "",
    ):
        self.space, self.name, self.subject = space, name, subject
        self.through: Mapping | None = None
        """See `image.Image.through`."""
        if data is None:
            self.kji = _unpainted(space.shape[::-1])
            self.counts = np.zeros(LARGEST + 1, np.int64)
            self.counts[0] = self.kji.size
        else:
            if data.shape != space.shape:
                raise Trouble(
                    f"Labels of {data.shape} voxels do not fit a grid of {space.shape}",
                    "open the label map that was made on this image",
                )
            self.kji = np.ascontiguousarray(data.T, np.uint16)
            self.counts = np.bincount(self.kji.reshape(-1), minlength=LARGEST + 1).astype(np.int64)
        self.revision = np.zeros(LARGEST + 1, np.int64)
        """How often the voxels of each number have changed since the map was opened."""
        table = table or LabelTable()
        nameless = [n for n in (np.flatnonzero(self.counts[1:]) + 1).tolist() if n not in table]
        rows = (Label(n, unnamed(n), PALETTE[(n - 1) % len(PALETTE)]) for n in nameless)
        self.table = LabelTable((*table, *rows)) if nameless else table

    @property
    def data(self) -> np.ndarray:
        """Numbers indexed [i, j, k], the same memory as `kji`."""
        return self.kji.T

    @property
    def memory(self) -> int:
        """Bytes that the map takes; of a huge one, about what its painted pages take."""
        painted = self.kji.size - int(self.counts[0])
        return self.kji.nbytes if painted and self.kji.size < HUGE else min(self.kji.nbytes, 16 * painted)

    @property
    def flat(self) -> np.ndarray:
        """The same memory as one row, i running fastest."""
        return self.kji.reshape(-1)

    @property
    def painted(self) -> tuple[slice, slice, slice] | None:
        """The [k, j, i] box of everything that carries a label; None when nothing does."""
        rows = np.asarray(self.kji.any(axis=2))
        if not rows.any():
            return None
        k, j = np.flatnonzero(rows.any(axis=1)), np.flatnonzero(rows.any(axis=0))
        ends = slice(int(k[0]), int(k[-1]) + 1), slice(int(j[0]), int(j[-1]) + 1)
        i = np.flatnonzero(self.kji[ends].any(axis=(0, 1)))
        return (*ends, slice(int(i[0]), int(i[-1]) + 1))

    def copied(self) -> LabelMap:
        """A map of its own with the same numbers; only the painted part of each slice is touched, so that a copy of a
        huge map costs what is painted."""
        made = LabelMap(self.space, None, self.table, self.name, self.subject)
        for new, old in zip(made.kji, self.kji):
            rows = np.flatnonzero(old.any(axis=1))
            if rows.size:
                part = slice(int(rows[0]), int(rows[-1]) + 1)
                columns = np.flatnonzero(old[part].any(axis=0))
                box = part, slice(int(columns[0]), int(columns[-1]) + 1)
                new[box] = old[box]
        made.counts = self.counts.copy()
        return made

    def writable(self) -> np.ndarray:
        """For each number 0 to 65535, 1 when voxels that carry it may be changed; locked ones may not."""
        allowed = np.ones(LARGEST + 1, np.uint8)
        for label in self.table:
            allowed[label.number] = not label.locked
        return allowed

    def require_unlocked(self, label: Label) -> None:
        """Raises Trouble when a label may not be changed."""
        if label.locked:
            raise Trouble(f"“{label.name}” is locked", "unlock it in the label list to change it")

    def row_or_new(self, name: str) -> tuple[LabelTable, Label]:
        """The table with a label of this name, made when there is none, and its row; raises Trouble when it is
        locked."""
        table, row = (self.table, self.table.named(name)) if self.table.has_name(name) else self.table.with_new(name)
        self.require_unlocked(row)
        return table, row

    def at(self, world) -> int | None:
        """Number at a world position, None outside the grid."""
        voxel = self.space.nearest_voxel(world)
        return None if voxel is None else int(self.data[voxel])

    def recount(self) -> None:
        """Count all numbers anew."""
        self.counts[:] = 0
        step = 1 << 22  # counting takes eight bytes a voxel
        for first in range(0, self.flat.size, step):
            self.counts += np.bincount(self.flat[first : first + step], minlength=self.counts.size)

    def content_hash(self) -> str:
        """SHA-256 of grid, table and every row of voxels that carries a label; what is not painted costs a look."""
        digest = hashlib.sha256(repr((self.space.as_dict(), self.table.as_list())).encode())
        if self.counts[0] == self.kji.size:
            return digest.hexdigest()
        rows = self.kji.reshape(-1, self.kji.shape[2])
        for n in np.flatnonzero(rows.any(axis=1)):
            digest.update(int(n).to_bytes(8, "little") + rows[n].tobytes())
        return digest.hexdigest()


HUGE = 1 << 28
"""Voxels from which a map is kept by what is painted, and not by what could be."""


NO_RESERVE = getattr(mmap, "MAP_NORESERVE", 0x4000)
"""Linux' flag for memory that is promised without being there."""


def _unpainted(shape: tuple[int, ...]) -> np.ndarray:
    """Zeros that the system hands out page by page: what is not painted costs nothing, however large the map."""
    size = 2 * math.prod(shape)
    if size < 2 * HUGE or not hasattr(mmap, "MADV_NOHUGEPAGE"):
        return np.zeros(shape, np.uint16)
    flags = mmap.MAP_PRIVATE | mmap.MAP_ANONYMOUS | NO_RESERVE
    pages = mmap.mmap(-1, size, flags=flags)
    pages.madvise(mmap.MADV_NOHUGEPAGE)  # a stroke across many rows should not take two megabytes a row
    return np.frombuffer(pages, np.uint16).reshape(shape)
