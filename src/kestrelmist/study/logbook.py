"""The logbook: every step, with its numbers, inputs and outputs."""

from __future__ import annotations

import json
from dataclasses import dataclass, field

from .. import VERSION
from .catalogue import Catalogue, now


NOT_REPEATED = ("by hand", "delete", "convert-study")
"""Steps that no recipe can do again."""


@dataclass(frozen=True)
class Entry:
    """One step. Inputs and outputs are {role: {name, hash}}."""

    id: int
    made: str
    operation: str
    title: str
    settings: dict
    inputs: dict
    outputs: dict
    seconds: float

    def as_step(self) -> dict:
        """The step as a recipe writes it: operation, inputs by name, settings."""
        return {"operation": self.operation, "inputs": {k: v["name"] for k, v in self.inputs.items()}, "settings": self.settings}

    @property
    def sentence(self) -> str:
        """One line for the Drawer."""
        on = ", ".join(v["name"] for k, v in self.inputs.items() if k == "image")
        numbers = ", ".join(f"{k.replace('_', ' ')} {_short(v)}" for k, v in self.settings.items() if v is not None and v != "")
        return f"{self.title}{f' on {on}' if on else ''}{f': {numbers}' if numbers else ''}"


@dataclass(frozen=True)
class Step:
    """A line for the logbook, before it is written."""

    operation: str
    title: str
    settings: dict
    inputs: dict
    outputs: dict = field(default_factory=dict)
    seconds: float = 0.0


class Logbook:
    """Reads and writes the logbook of a study."""

    def __init__(self, catalogue: Catalogue):
        self.catalogue = catalogue

    def write(self, step: Step) -> int:
        with self.catalogue.change() as db:
            return db.execute("INSERT INTO logbook (made, operation, title, settings, inputs, outputs, seconds, program)"
                              " VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
                              (now(), step.operation, step.title, json.dumps(step.settings, default=str), json.dumps(step.inputs),
                               json.dumps(step.outputs), step.seconds, f"Kestrelmist {VERSION}")).lastrowid

    def entries(self) -> list[Entry]:
        """All steps, oldest first."""
        return [Entry(r["id"], r["made"], r["operation"], r["title"], json.loads(r["settings"]), json.loads(r["inputs"]),
                      json.loads(r["outputs"]), r["seconds"]) for r in self.catalogue.rows("SELECT * FROM logbook ORDER BY id")]


def as_yaml(entries: list[Entry]) -> str:
    """Steps as a recipe: can be run again with `kestrelmist recipe`. What a hand has drawn cannot be and stands as a comment."""
    import yaml

    by_hand = [f"# {e.made[:16]} {e.sentence}\n" for e in entries if e.operation in NOT_REPEATED]
    note = "# Done by hand, not repeated by this recipe:\n" + "".join(by_hand) if by_hand else ""
    steps = [e.as_step() for e in entries if e.operation not in NOT_REPEATED]
    return note + yaml.safe_dump({"recipe": 1, "steps": steps}, sort_keys=False, allow_unicode=True)


def _short(value) -> str:
    if isinstance(value, (list, tuple)):
        return "(" + ", ".join(_short(v) for v in value) + ")"
    return f"{value:.4g}" if isinstance(value, float) else str(value)
