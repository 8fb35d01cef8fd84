"""Label maps: one whole number a voxel, and a table that says what each number means."""

from __future__ import annotations

from dataclasses import asdict, dataclass, replace

import numpy as np

from .errors import Trouble
from .space import Space

PALETTE = ("#E0A24B", "#56A8C7", "#D9634F", "#7E6BB5", "#5E9E66", "#C9699C", "#8C6A4A", "#9FB03C",
           "#3F6FB0", "#B7B1A2")
"""Default label colours, chosen to differ in lightness as well as hue for colour-blind eyes."""

LARGEST = 65535


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

    def get(self, number: int) -> Label | None:
        return self._by_number.get(number)

    def named(self, name: str) -> Label:
        """The label of that name (capitals do not matter); raises Trouble when there is none."""
        for label in self.labels:
            if label.name.casefold() == name.strip().casefold():
                return label
        have = ", ".join(label.name for label in self.labels) or "none yet"
        raise Trouble(f"There is no label “{name}”", f"choose one of the labels there are ({have}) or make it first")

    def has_name(self, name: str) -> bool:
        return any(label.name.casefold() == name.strip().casefold() for label in self.labels)

    def with_new(self, name: str, colour: str | None = None) -> tuple[LabelTable, Label]:
        """A table with one more label, at the lowest free number."""
        name = name.strip()
        if not name:
            raise Trouble("A label needs a name", "type one")
        if self.has_name(name):
            raise Trouble(f"There is a label “{name}” already", "choose another name")
        number = next(n for n in range(1, LARGEST + 2) if n not in self)
        if number > LARGEST:
            raise Trouble("All label numbers are used", "remove labels that are not needed")
        label = Label(number, name, colour or PALETTE[(number - 1) % len(PALETTE)])
        return LabelTable((*self.labels, label)), label

    def changed(self, number: int, **changes) -> LabelTable:
        """A table with one label changed (name, colour, locked, hidden)."""
        if number not in self:
            raise Trouble(f"There is no label with number {number}", "choose one of the list")
        if "name" in changes:
            changes["name"] = changes["name"].strip()
            other = [label for label in self.labels if label.number != number]
            if not changes["name"] or LabelTable(other).has_name(changes["name"]):
                raise Trouble(f"A label cannot be called “{changes['name']}”", "choose a name that is not used yet")
        return LabelTable(replace(label, **changes) if label.number == number else label for label in self.labels)

    def without(self, number: int) -> LabelTable:
        return LabelTable(label for label in self.labels if label.number != number)

    def as_list(self) -> list[dict]:
        return [asdict(label) for label in self.labels]

    @classmethod
    def from_list(cls, rows) -> LabelTable:
        return cls(Label(**row) for row in rows)


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

    def __init__(self, space: Space, data: np.ndarray | None = None, table: LabelTable | None = None,
                 name: str = "Labels", subject: str = ""):
        self.space, self.name, self.subject = space, name, subject
        if data is None:
            # zeros are handed out by the system page by page: an empty 512³ map costs nothing yet
            self.kji = np.zeros(space.shape[::-1], np.uint16)
            self.counts = np.zeros(LARGEST + 1, np.int64)
            self.counts[0] = self.kji.size
        else:
            if data.shape != space.shape:
                raise Trouble(f"Labels of {data.shape} voxels do not fit a grid of {space.shape}",
                              "open the label map that was made on this image")
            self.kji = np.ascontiguousarray(data.T, np.uint16)
            self.counts = np.bincount(self.kji.reshape(-1), minlength=LARGEST + 1).astype(np.int64)
        self.revision = np.zeros(LARGEST + 1, np.int64)
        """How often the voxels of each number have changed since the map was opened."""
        table = table or LabelTable()
        for number in np.flatnonzero(self.counts[1:]) + 1:
            if int(number) not in table:
                row = Label(int(number), f"Label {number}", PALETTE[(int(number) - 1) % len(PALETTE)])
                table = LabelTable((*table, row))
        self.table = table

    @property
    def data(self) -> np.ndarray:
        """Numbers indexed [i, j, k], the same memory as `kji`."""
        return self.kji.T

    @property
    def flat(self) -> np.ndarray:
        """The same memory as one row, i running fastest."""
        return self.kji.reshape(-1)

    def writable(self) -> np.ndarray:
        """For each number 0 to 65535, 1 when voxels that carry it may be changed; locked ones may not."""
        allowed = np.ones(LARGEST + 1, np.uint8)
        for label in self.table:
            allowed[label.number] = not label.locked
        return allowed

    def require_unlocked(self, label: Label) -> None:
        if label.locked:
            raise Trouble(f"“{label.name}” is locked", "unlock it in the label list to change it")

    def at(self, world) -> int | None:
        """Number at a world position, None outside the grid."""
        voxel = self.space.nearest_voxel(world)
        return None if voxel is None else int(self.data[voxel])
