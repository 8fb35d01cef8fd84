"""Class tables: what the numbers of labels and marks stand for, for a whole study."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Iterator
from dataclasses import asdict, dataclass, replace
from typing import Any

from .errors import Trouble
from .labels import LARGEST, PALETTE, Label, LabelTable
from .names import plain_name, typed_name


@dataclass(frozen=True)
class ClassRow:
    """One class.

    Parameters
    ----------
    number : int
        1 to 65,535: what stands in label maps, and with marks.
    name : str
    colour : str
        "#RRGGBB".
    parent : int
        Number of the class that it is a part of; 0 for none.
    code : str
        What it is called in a list of terms, as "EMAPA:16894".
    note : str
    """

    number: int
    name: str
    colour: str = PALETTE[0]
    parent: int = 0
    code: str = ""
    note: str = ""


class ClassTable:
    """Classes by number. Immutable: changes make others.

    Raises
    ------
    Trouble
        When two have one number or one name, a number is none, or a parent is not there or a part of its own part.
    """

    def __init__(self, rows: Iterable[ClassRow] = (), name: str = "Classes", subject: str = ""):
        self.name, self.subject = plain_name(name) or "Classes", plain_name(subject)
        self.rows = tuple(sorted(rows, key=lambda row: row.number))
        self.by_number = {row.number: row for row in self.rows}
        names: dict[str, int] = {}
        for row in self.rows:
            if not 1 <= row.number <= LARGEST:
                raise Trouble(f"{row.number} is no number of a class", f"give 1 to {LARGEST}")
            if not row.name:
                raise Trouble(f"Class {row.number} has no name", "give it one")
            if row.name.casefold() in names:
                raise Trouble(f"Two classes are called “{row.name}”", "give each a name of its own")
            names[row.name.casefold()] = row.number
        if len(self.by_number) < len(self.rows):
            twice = next(a.number for a, b in zip(self.rows, self.rows[1:]) if a.number == b.number)
            raise Trouble(f"Two classes have the number {twice}", "give each a number of its own")
        for row in self.rows:
            self._require_parents(row)

    def _require_parents(self, row: ClassRow) -> None:
        above, seen = row.parent, {row.number}
        while above:
            if above not in self.by_number:
                raise Trouble(f"“{row.name}” is a part of class {above}, which is not there", "add that, or give 0")
            if above in seen:
                raise Trouble(f"“{row.name}” is a part of itself", "give it another parent, or 0")
            seen.add(above)
            above = self.by_number[above].parent

    def __iter__(self) -> Iterator[ClassRow]:
        return iter(self.rows)

    def __len__(self) -> int:
        return len(self.rows)

    def get(self, number: int) -> ClassRow | None:
        """The class of a number, None when there is none."""
        return self.by_number.get(number)

    def named(self, name: str) -> ClassRow:
        """The class of a name, or of a number in text; raises Trouble when there is none."""
        wanted = name.strip().casefold()
        for row in self.rows:
            if row.name.casefold() == wanted:
                return row
        if wanted.isdigit() and int(wanted) in self.by_number:
            return self.by_number[int(wanted)]
        have = ", ".join(row.name for row in self.rows[:20]) or "none yet"
        raise Trouble(f"There is no class “{name}” in “{self.name}”", f"choose one of: {have}")

    def with_row(self, row: ClassRow) -> ClassTable:
        """The table with a class added, or in place of that of its number."""
        return ClassTable([*(one for one in self.rows if one.number != row.number), row], self.name, self.subject)

    def without(self, number: int) -> ClassTable:
        """The table without a class; its parts become parts of what it was a part of."""
        gone = self.by_number[number]
        kept = (replace(r, parent=gone.parent) if r.parent == number else r for r in self.rows if r.number != number)
        return ClassTable(kept, self.name, self.subject)

    @property
    def free_number(self) -> int:
        """The lowest number that no class has; raises Trouble when all are taken."""
        found = next((n for n in range(1, LARGEST + 1) if n not in self.by_number), None)
        if found is None:
            raise Trouble(f"“{self.name}” has {LARGEST} classes, which is all there can be", "delete some first")
        return found

    def content_hash(self) -> str:
        """SHA-256 of what it says."""
        return hashlib.sha256(json.dumps(self.as_list(), sort_keys=True).encode()).hexdigest()

    def as_list(self) -> list[dict[str, Any]]:
        """As plain values, for JSON."""
        return [asdict(row) for row in self.rows]

    @classmethod
    def from_list(cls, rows: Iterable[dict[str, Any]], name: str = "", subject: str = "") -> ClassTable:
        """Read back from `as_list`."""
        known = set(ClassRow.__dataclass_fields__)
        return cls((ClassRow(**{k: v for k, v in row.items() if k in known}) for row in rows), name, subject)

    @classmethod
    def of_labels(cls, table: LabelTable, name: str = "", subject: str = "") -> ClassTable:
        """The classes that a label table names."""
        return cls((ClassRow(label.number, label.name, label.colour) for label in table), name, subject)

    def on_labels(self, table: LabelTable) -> LabelTable:
        """A label table whose numbers are called and coloured as here; what is locked or hidden stays so, labels of
        which there is no class stay, and classes without a label come along.

        Raises Trouble when a label that stays has the name of a class.
        """
        labels = {label.number: label for label in table}
        for row in self.rows:
            before = labels.get(row.number)
            label = Label(row.number, row.name, row.colour)
            labels[row.number] = label if before is None else replace(before, name=row.name, colour=row.colour)
        classes = {row.name.casefold(): row for row in self.rows}
        for label in table:
            same = classes.get(label.name.casefold())
            if same is not None and label.number not in self.by_number:
                what = f"Label {label.number} is called “{label.name}” as class {same.number} is"
                raise Trouble(what, "rename the label first")
        return LabelTable(labels.values())


def class_name(text: str) -> str:
    """A name that a person has typed for a class; raises Trouble when it is empty."""
    name = typed_name(text)
    if not name:
        raise Trouble("A class needs a name", "type one")
    return name
