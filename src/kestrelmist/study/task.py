"""Tasks: an operation with references and settings only, so that it can go to a thread or to another process.

A task is settled first (references looked up, settings checked), computed then (anywhere; results are prepared in side
folders), and taken into the study last, in one transaction (see `keeping`).
"""

from __future__ import annotations

import hashlib
import json
import time
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from ..core.errors import Trouble
from ..core.image import Image
from ..core.kind import kind_of_value
from ..core.left_out import Found
from ..core.operation import Operation, find_operation
from ..core.parameter import Parameter
from ..core.placement import Placement
from ..core.progress import Progress
from .given import Given
from .new_names import with_names
from .open_study import OpenStudy
from .opened import opened_arguments
from .store import Prepared, store_for


@dataclass(frozen=True)
class Task:
    """An operation with everything it needs, in a form that can be sent."""

    operation: str
    settings: dict[str, Any]
    inputs: dict[str, tuple[Given, ...]]
    said: frozenset[str] = frozenset()
    """Names of the settings that somebody gave; the others are the usual ones."""

    @property
    def about(self) -> Operation:
        return find_operation(self.operation)

    @property
    def title(self) -> str:
        return self.about.title

    @property
    def key(self) -> str:
        """What tells the same work on the same things: operation and version, settings, contents of the inputs; "" when
        something of it has no identity."""
        things = {name: [g.thing for g in given] for name, given in self.inputs.items()}
        flat = [t for several in things.values() for t in several]
        if any(not t.hash for t in flat):
            return ""
        said = {
            "operation": [self.operation, self.about.version],
            "settings": self.about.written(self.settings),
            "inputs": {name: [(t.hash, list(t.place)) for t in several] for name, several in things.items()},
        }
        return hashlib.sha256(json.dumps(said, sort_keys=True, default=str).encode()).hexdigest()

    def of(self, p: Parameter | None) -> Given | None:
        """What is given to one of its inputs, the first of several; None where that is nothing."""
        given = self.inputs.get(p.name, ()) if p is not None else ()
        return given[0] if given else None

    @property
    def subject(self) -> str:
        """Whose the results are: that of the first input."""
        return next((g.thing.subject for given in self.inputs.values() for g in given if g.thing.subject), "")


@dataclass
class Made:
    """What a task has made, by the names of its results: the values, and those to be kept prepared."""

    values: dict[str, Any]
    prepared: dict[str, list[Prepared]] = field(default_factory=dict)
    seconds: float = 0.0
    found: dict[str, Found] = field(default_factory=dict)
    """What was found for settings that nobody gave."""
    arguments: dict[str, Any] = field(default_factory=dict)
    """Of a task of files: what the operation was given, opened."""

    def drop(self) -> None:
        """Throw away what was prepared."""
        for several in self.prepared.values():
            for one in several:
                one.drop()


def compute(study: OpenStudy | None, task: Task, progress: Progress, prepare: bool = True) -> Made:
    """Do the work of a task and prepare what it has made; nothing of the study is changed. A task of files needs none.

    Raises Trouble when an input cannot be read, or from the operation; Cancelled when it was cancelled.
    """
    started = time.monotonic()
    operation = task.about
    arguments: dict[str, Any] = {operation.acts: study} if operation.acts else {}
    arguments |= opened_arguments(study, operation, task.inputs, progress.part(0.0, 0.1))
    settings = with_names(operation, task.settings, task.inputs, study)
    given = {p.name: arguments.get(p.name) for p in operation.inputs} | settings
    found = {name: one for name, one in operation.found(given).items() if isinstance(one, Found)}
    values = operation(progress.part(0.1, 0.7), **arguments, **settings)
    for result in operation.results:
        if isinstance(values[result.name], Placement) and (moved := operation.changed_by(result.kind)) is not None:
            values[result.name] = replace(values[result.name], was=arguments[moved.name].space)
    made = Made(values, seconds=time.monotonic() - started, found=found)
    if study is None:
        made.arguments = arguments
    if study is None or not prepare or operation.acts:
        return made
    try:
        for result in operation.results:
            value = values[result.name]
            if result.kind.is_thing:
                several = value if result.many else [value]
                made.prepared[result.name] = prepared(study, task, several, progress.part(0.7, 1.0))
            elif hasattr(value, "patch") and value.patch is not None:
                value.patch.to_bytes()  # packed here, so that the window's thread need not
    except BaseException:
        made.drop()
        raise
    return made


def _owner(study: OpenStudy, given: Given | None) -> int | None:
    """The image that something given is of, such as a label map."""
    record = study.items.get(given.item) if given is not None and given.item is not None else None
    return record.of if record is not None else given.of if given is not None else None


def prepared(study: OpenStudy, task: Task, things: Sequence[Any], progress: Progress) -> list[Prepared]:
    """Things made ready to be kept, under the subject of what they were made from."""
    found: list[Prepared] = []
    try:
        for n, thing in enumerate(things):
            kind = kind_of_value(thing)
            assert kind is not None
            if isinstance(thing, Image):
                thing.subject = thing.subject or task.subject
            part = progress.part(n / len(things), (n + 1) / len(things))
            one = store_for(kind.name).prepare(study, thing, part)
            one.subject = one.subject or task.subject
            if store_for(kind.name).is_of_image(thing):
                image = task.of(task.about.lead)
                one.of = image.item if image is not None else None
                if one.of is None and not kind.of:  # it stands by itself, and goes where what it was made of is
                    one.of = _owner(study, task.of(task.about.on_lead))
                if one.of is None and kind.of:  # nobody would see it
                    raise Trouble(f"“{one.name}” would belong to no image of the study", "say onto which it is brought")
            found.append(one)
    except BaseException:
        for one in found:
            one.drop()
        raise
    return found
