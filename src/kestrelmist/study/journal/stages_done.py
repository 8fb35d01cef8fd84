"""In which stages something was done for an image."""

from __future__ import annotations

import re
from collections import defaultdict

from ...core.kinds.marks import MARKS
from ...core.operation import operation_called
from ..items import Record
from ..open_study import OpenStudy
from .logbook import BY_HAND

_ITEM = re.compile(r'"item": (\d+)')
"""An id among the things of a step, as the logbook writes it; in a name the quotes would be escaped."""


class StagesDone:
    """Which stages have been gone through, as the logbook has it: what led to an image, and what was done with it or
    with what is of it. Undone steps do not count. Only steps that are new since the last time are read."""

    def __init__(self, study: OpenStudy):
        self.study = study
        self._read_to = 0
        self._operations: dict[int, str] = {}
        self._inputs: dict[int, tuple[int, ...]] = {}
        self._using: dict[int, list[int]] = defaultdict(list)
        self._making: dict[int, list[int]] = defaultdict(list)

    def of(self, record: Record) -> frozenset[str]:
        """The stages of `record`, by name: "gather", "prepare" and so on. An image of a study has been gathered."""
        self._read_new()
        undone = {row["id"] for row in self.study.catalogue.rows("SELECT id FROM step WHERE undone")}
        family = [record, *(r for r in self.study.items.owned(record.id) if not r.removed)]
        steps = {step for one in family for step in (*self._using[one.id], *self._making[one.id])}
        steps |= self._led_to(record.id, undone)
        names = {self._operations[step] for step in steps - undone}
        hand = {"measure" if one.kind == MARKS.name else "outline" for one in family[1:] if self._drawn(one.id)}
        return frozenset({"gather"} | hand | {stage for name in names if (stage := _stage(name))})

    def _read_new(self) -> None:
        rows = self.study.catalogue.rows(
            "SELECT id, operation, inputs, outputs FROM step WHERE id > ? AND operation != ? ORDER BY id",
            self._read_to,
            BY_HAND,
        )
        for row in rows:
            step = self._read_to = row["id"]
            self._operations[step] = row["operation"]
            self._inputs[step] = tuple(map(int, _ITEM.findall(row["inputs"])))
            for thing in self._inputs[step]:
                self._using[thing].append(step)
            for thing in map(int, _ITEM.findall(row["outputs"])):
                self._making[thing].append(step)

    def _led_to(self, thing: int, undone: set[int]) -> set[int]:
        found: set[int] = set()
        things, seen = [thing], {thing}
        while things:
            for step in self._making[things.pop()]:
                if step not in found and step not in undone:
                    found.add(step)
                    things += [i for i in self._inputs[step] if i not in seen]
                    seen.update(self._inputs[step])
        return found

    def _drawn(self, thing: int) -> bool:
        """Whether a hand has changed it and that is in force."""
        return bool(
            self.study.catalogue.rows(
                "SELECT 1 FROM change JOIN step ON step.id = change.step_id"
                " WHERE change.item_id = ? AND step.operation = ? AND NOT step.undone LIMIT 1",
                thing,
                BY_HAND,
            )
        )


def _stage(operation: str) -> str:
    """Of operations that are not there, of a plug-in or what a person did to a name, nothing is known."""
    found = operation_called(operation)
    return "" if found is None else found.stage
