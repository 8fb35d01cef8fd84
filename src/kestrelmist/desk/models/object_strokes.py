"""Strokes that objects are found from: which are a label's, under whatever names it has had, and the search itself."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from PySide6.QtCore import QObject

from ...core.geometry.mark import Mark
from .drawn_marks import DrawnMarks

OUTSIDE = "Outside"


class ObjectStrokes(QObject):
    """The strokes of the marks in hand. They are told apart by the name that their label had when they were drawn, and
    follow it when it is renamed."""

    def __init__(self, marks: DrawnMarks, run):
        super().__init__(marks)
        self.marks, self.viewing, self._run = marks, marks.viewing, run
        self._names: dict[tuple[int | None, int], list[str]] = {}
        """Of each label of the maps that were seen (map, number): its names, the present one last."""
        self._job: Any = None
        self._stopped: str | None = None
        """The label whose search was stopped for another stroke."""
        self.viewing.maps.changed.connect(self._follow_names)
        self.viewing.maps.chosen.connect(self._follow_names)

    def _follow_names(self) -> None:
        maps = self.viewing.maps
        if maps.labels is None:
            return
        key = None if maps.map is None else maps.map.id
        table = {row.number: row.name for row in maps.labels.table}
        for known in [k for k in self._names if k[0] == key and k[1] not in table]:
            del self._names[known]  # the next label at its number is another one
        for number, name in table.items():
            names = self._names.setdefault((key, number), [])
            if name in names:
                names.remove(name)
            names.append(name)

    def of(self, label: str) -> list[Mark]:
        """The strokes that were drawn for a label of the map in hand."""
        names = {label, *self._earlier(label)}
        return [m for m in self.marks.marks or () if m.notes.get("for") == "strokes" and m.notes.get("of") in names]

    def _earlier(self, label: str) -> list[str]:
        maps = self.viewing.maps
        if maps.labels is None or not maps.labels.table.has_name(label):
            return []
        key = None if maps.map is None else maps.map.id
        number = maps.labels.table.named(label).number
        return [n for n in self._names.get((key, number), []) if not maps.labels.table.has_name(n)]

    def present_name(self, name: str) -> str | None:
        """The name that a label has now which had this one; None when no label had, or one has it still."""
        labels = self.viewing.maps.labels
        if labels is None or not name or labels.table.has_name(name):
            return None
        return next((row.name for row in labels.table if name in self._earlier(row.name)), None)

    def renamed(self, label: str) -> dict[int, Mark | None]:
        """Its strokes that still bear an earlier name, with the present one."""
        return {
            m.id: replace(m, name=m.name if m.name == OUTSIDE else label, notes={**m.notes, "of": label})
            for m in self.of(label)
            if m.notes["of"] != label
        }

    def stop(self) -> None:
        """Give up the search under way: there is another stroke."""
        if self._job is not None and self._job[0] in self.marks.session.work.jobs:
            self._stopped = self._job[1]
            self._job[0].progress.cancel()

    def go_on(self) -> None:
        """Search again when that was stopped for a stroke that was given up."""
        label, self._stopped = self._stopped, None
        if label is not None:
            self.find(label)

    def find(self, label: str, into: int = 0) -> None:
        """Work out what the strokes of a label mean, once there are some of both sides; it is undone together with the
        stroke, the entry `into` of the history."""
        self._stopped = None
        several = self.of(label)
        if self.marks.key is None or not {True, False} <= {m.name == OUTSIDE for m in several}:
            return
        which = ",".join(str(m.id) for m in several)
        given = {"marks": self.marks.key, "which": which}
        job = self._run("object-from-strokes", given, title="From strokes to object", into=into)
        self._job = None if job is None else (job, label)
