"""The logbook: every step, with its numbers, inputs and outputs. Outputs of one step are inputs of others: a graph in
order of time."""

from __future__ import annotations

import getpass
import json
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

from ... import VERSION
from ...core.kind import can_lead
from ...core.reference import Reference
from ..catalogue import Catalogue, now
from ..catalogue_trouble import rows_understood

BY_HAND = "by hand"
"""The operation of what a hand has drawn: a fact, and nothing a recipe can do again."""


NONE_ON = "none on "
"""How the content of a label map is written that an image has not got yet; behind it stands the id of the image."""


@dataclass(frozen=True)
class Thing:
    """A thing as a step knows it.

    Parameters
    ----------
    kind, subject, name : str
    of : str
        Name of the thing it is of: of the image, for a label map.
    place : tuple of int
        Places along the axes of a series, counted from 1.
    item : int or None
        Its id in the study; None for files.
    hash : str
        Content when the step ran; of a label map, its revision.
    path : str
        The file it was read from, when it is none of the study.
    """

    kind: str
    name: str
    subject: str = ""
    of: str = ""
    place: tuple[int, ...] = ()
    item: int | None = None
    hash: str = ""
    path: str = ""

    @property
    def blank(self) -> bool:
        """Whether it is the label map of an image that had none."""
        return self.item is None and self.hash.startswith(NONE_ON)

    @property
    def reference(self) -> Reference:
        if self.of:
            return Reference(self.of, self.subject, self.name, self.place)
        return Reference(self.name, self.subject or None, None, self.place)

    def as_dict(self) -> dict:
        texts = {"kind": self.kind, "name": self.name, "subject": self.subject, "of": self.of, "path": self.path}
        found: dict[str, Any] = {k: v for k, v in texts.items() if v or k in ("kind", "name")}
        found |= {"place": list(self.place)} if self.place else {}
        found |= {"item": self.item} if self.item is not None else {}
        return found | ({"hash": self.hash} if self.hash else {})

    @classmethod
    def from_dict(cls, facts: dict) -> Thing:
        return cls(
            str(facts.get("kind", "")),
            str(facts.get("name", "")),
            str(facts.get("subject", "")),
            str(facts.get("of", "")),
            tuple(facts.get("place", ())),
            facts.get("item"),
            str(facts.get("hash", "")),
            str(facts.get("path", "")),
        )


Things = dict[str, tuple[Thing, ...]]


@dataclass(frozen=True)
class Step:
    """One step: an operation with its settings, what went in, what came out, and whether it was undone."""

    operation: str
    title: str
    settings: dict[str, Any] = field(default_factory=dict)
    inputs: Things = field(default_factory=dict)
    outputs: Things = field(default_factory=dict)
    seconds: float = 0.0
    key: str = ""
    version: int = 1
    undone: bool = False
    id: int = 0
    made: str = ""
    who: str = ""
    program: str = ""
    found: dict[str, list] = field(default_factory=dict)
    """What was used for settings and inputs that nobody gave, and from where, by name: the value as YAML holds it, and
    words such as "from the header"."""

    @property
    def subject(self) -> str:
        """Whose it is: the subject of its first input, or of what it made."""
        for things in (*self.inputs.values(), *self.outputs.values()):
            for thing in things:
                if thing.subject:
                    return thing.subject
        return ""

    @cached_property
    def sentence(self) -> str:
        """One line for the Drawer."""
        on = ", ".join(t.name for things in self.inputs.values() for t in things if can_lead(t.kind))
        numbers = ", ".join(
            f"{k.replace('_', ' ')} {_short(v)}" for k, v in self.settings.items() if v is not None and v != ""
        )
        found = ", ".join(
            f"{name.replace('_', ' ')} {_short(value)} {whence}" for name, (value, whence) in self.told.items()
        )
        said = ", ".join(filter(None, (numbers, found)))
        undone = " (undone)" if self.undone else ""
        return f"{self.title}{f' on {on}' if on else ''}{f': {said}' if said else ''}{undone}"

    @property
    def told(self) -> dict[str, list]:
        """Of what was found, the settings: inputs are told by their names."""
        return {name: found for name, found in self.found.items() if name in self.settings and len(found) == 2}


def storable(title: str) -> str:
    """A title as the catalogue can hold it: names of files may be no text."""
    return title.encode("utf-8", "backslashreplace").decode()


class Logbook:
    """Reads and writes the steps of a study."""

    def __init__(self, catalogue: Catalogue):
        self.catalogue = catalogue
        self._taken_apart: dict[int, Step] = {}
        """Of the steps that were read: nothing of them changes but whether they are undone."""

    def write(self, step: Step) -> int:
        """Write a step; returns its id."""
        with self.catalogue.change() as db:
            made = db.execute(
                "INSERT INTO step (made, who, operation, version, title, settings, inputs, outputs, key, seconds,"
                " program, found) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                (
                    now(),
                    person(),
                    step.operation,
                    step.version,
                    storable(step.title),
                    json.dumps(step.settings, default=str),
                    _written(step.inputs),
                    _written(step.outputs),
                    step.key,
                    step.seconds,
                    f"Kestrelmist {VERSION}",
                    json.dumps(step.found, default=str),
                ),
            ).lastrowid
            assert made is not None
            return made

    def entries(self) -> list[Step]:
        """All steps, oldest first."""
        return self._steps("SELECT * FROM step ORDER BY id")

    def last(self, count: int) -> list[Step]:
        """The last steps, newest first."""
        return self._steps("SELECT * FROM step ORDER BY id DESC LIMIT ?", count)

    def with_key(self, key: str) -> list[Step]:
        """Steps that did the same work on the same things and were not undone, newest first."""
        if not key:
            return []
        return self._steps("SELECT * FROM step WHERE key = ? AND NOT undone ORDER BY id DESC", key)

    def changing(self, item: int) -> list[Step]:
        """Steps that came with a change of a thing, oldest first."""
        return self._steps(
            "SELECT * FROM step WHERE id IN (SELECT step_id FROM change WHERE item_id = ?) ORDER BY id", item
        )

    def _steps(self, query: str, *values) -> list[Step]:
        rows = self.catalogue.rows(query, *values)
        with rows_understood(self.catalogue.path):
            return [self._known(row) for row in rows]

    def _known(self, row) -> Step:
        step = self._taken_apart.get(row["id"])
        if step is None or step.undone != bool(row["undone"]) or step.made != row["made"]:
            step = self._taken_apart[row["id"]] = _step(row)
        return step


def person() -> str:
    """Who works on this machine, as the system has it."""
    try:
        return getpass.getuser()
    except (KeyError, OSError, ImportError):  # a process without a name
        return ""


def _written(things: Things) -> str:
    return json.dumps({role: [t.as_dict() for t in several] for role, several in things.items()})


def _read(text: str) -> Things:
    return {role: tuple(Thing.from_dict(t) for t in several) for role, several in json.loads(text).items()}


def _step(row) -> Step:
    return Step(
        row["operation"],
        row["title"],
        json.loads(row["settings"]),
        _read(row["inputs"]),
        _read(row["outputs"]),
        row["seconds"],
        row["key"],
        row["version"],
        bool(row["undone"]),
        row["id"],
        row["made"],
        row["who"],
        row["program"],
        json.loads(row["found"]),
    )


def _short(value) -> str:
    if isinstance(value, (list, tuple)):
        return "(" + ", ".join(_short(v) for v in value) + ")"
    if isinstance(value, bool):
        return "yes" if value else "no"
    return f"{value:.4g}" if isinstance(value, float) else str(value)
