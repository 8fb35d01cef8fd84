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
from pathlib import Path
from typing import Any

from ..core.errors import Trouble
from ..core.image import Image
from ..core.kind import kind_of_value, stands_for
from ..core.operation import Operation, find_operation
from ..core.parameter import Parameter
from ..core.progress import Progress
from ..core.reference import Reference
from ..formats.curve_files import curves_of_table, only_curve
from ..formats.format import format_of, words_for
from ..formats.opening import open_image
from .given import Given
from .items import Record
from .logbook import NONE_ON, Thing
from .new_names import with_names
from .open_study import OpenStudy
from .referring import ANY, Meant, meant
from .store import Prepared, store_for

NO_MAP = "Labels"
"""Name of the label map that comes into being with the first label on an image."""


@dataclass(frozen=True)
class Task:
    """An operation with everything it needs, in a form that can be sent."""

    operation: str
    settings: dict[str, Any]
    inputs: dict[str, tuple[Given, ...]]

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

    def first(self, kind: str) -> Given | None:
        """The first input of a kind: what an edit or a placement is of."""
        p = self.about.first_input(kind)
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

    def drop(self) -> None:
        """Throw away what was prepared."""
        for several in self.prepared.values():
            for one in several:
                one.drop()


def settle(study: OpenStudy, name: str, given: dict[str, Any]) -> Task:
    """Look up the inputs and check the settings; raises Trouble when something is missing or wrong.

    Inputs may be references in text, ids, paths, or things themselves. An image that is not named is the one whose
    label map is named, else the only one of the study; a label map that is not named is the one in hand on the first
    image, or one still to be made.
    """
    operation = find_operation(name)
    given = operation.rerouted(given)
    wanted = {p.name: given.pop(p.name, None) for p in operation.inputs}
    settings = operation.checked(given)
    inputs: dict[str, tuple[Given, ...]] = {}
    for p in operation.inputs:
        value = wanted[p.name]
        if p.many:
            several = value if isinstance(value, (list, tuple)) else [] if value is None else [value]
            if not several and p.required:
                raise Trouble(f"“{operation.title}” needs {p.words.lower()}", p.wanted)
            inputs[p.name] = tuple(_given(study, operation, p, one) for one in several)
        elif value is not None:
            inputs[p.name] = (_given(study, operation, p, value),)
    for p in operation.inputs:
        if p.name not in inputs and p.required:
            inputs[p.name] = (_filled(study, operation, p, inputs),)
    inputs = {p.name: inputs[p.name] for p in operation.inputs if p.name in inputs}
    with_names(operation, settings, inputs, study)  # said now when a name cannot be filled
    return Task(operation.name, settings, inputs)


def _given(study: OpenStudy, operation: Operation, p: Parameter, value: Any) -> Given:
    if isinstance(value, Given):  # known already, as a label map that is still to be made
        return value
    if isinstance(value, p.kind.type):
        return _handed_over(value, p)
    if isinstance(value, Path):
        value = str(value)
    if isinstance(value, bool) or not isinstance(value, (int, str, Reference)):
        raise Trouble(f"“{value}” is no {p.kind.name}", p.wanted)
    wanted = p.role if p.kind.family == "record" else p.kind.name
    found = meant(study, value, wanted, files=p.kind.is_thing)
    if found.record is not None and stands_for(found.record.kind, wanted):
        return _labels_on(study, found.record)
    return _of(study, found, wanted)


def _handed_over(value: Any, p: Parameter) -> Given:
    digest = value.content_hash() if hasattr(value, "content_hash") else ""
    name = getattr(value, "name", "") or getattr(value, "title", "")
    return Given(Thing(p.kind.name, name, getattr(value, "subject", ""), hash=digest), value=value)


def _filled(study: OpenStudy, operation: Operation, p: Parameter, so_far: dict[str, tuple[Given, ...]]) -> Given:
    """An input that nobody has named."""
    kind = p.role if p.kind.family == "record" else p.kind.name
    maps = [g.of for given in so_far.values() for g in given if g.thing.kind == "label map" and g.of is not None]
    if kind == "image" and maps:
        record = study.items.get(maps[0])
        assert record is not None
        return _of(study, Meant(record), kind)
    if kind == "label map":
        image = next((g for given in so_far.values() for g in given if g.thing.kind == "image"), None)
        if image is not None and image.item is not None:
            record = study.items.get(image.item)
            assert record is not None
            return _labels_on(study, record)
    there = study.items.of_kind(*(() if kind == ANY else (kind,)))
    if len(there) == 1:
        return _of(study, Meant(there[0]), kind)
    if kind == "label map" and not there:
        there = study.items.of_kind("image")
        if len(there) == 1:
            return _labels_on(study, there[0])
    names = ", ".join(str(r.reference) for r in there[:12]) or "there is none yet"
    article = "an" if kind[0] in "aeiou" else "a"
    raise Trouble(f"“{operation.title}” needs {article} {kind}", f"choose one of: {names}", study.folder)


def _labels_on(study: OpenStudy, image: Record) -> Given:
    """The label map in hand on an image; one still to be made when it has none."""
    key = study.in_hand(image.id)
    if key is not None:
        record = study.items.get(key)
        assert record is not None
        return _of(study, Meant(record), "label map")
    thing = Thing("label map", NO_MAP, image.subject, image.name, hash=f"{NONE_ON}{image.id}")
    return Given(thing, None, image.id, blank=study.maps.blank(image.id))


def _of(study: OpenStudy, found: Meant, kind: str) -> Given:
    if found.file is not None:
        stat = found.file.stat()
        digest = f"{found.file.resolve()} {stat.st_size} {stat.st_mtime_ns}"
        thing = Thing(kind, found.part or found.file.name, place=found.place, hash=digest, path=str(found.file))
        return Given(thing, file=found.file, part=found.part)
    record = found.record
    assert record is not None
    thing = Thing(
        record.kind, record.name, record.subject, record.owner, found.place, record.id, study.identity(record)
    )
    return Given(thing, record.id, record.of)


def compute(study: OpenStudy, task: Task, progress: Progress, prepare: bool = True) -> Made:
    """Do the work of a task and prepare what it has made; nothing of the study is changed.

    Raises Trouble when an input cannot be read, or from the operation; Cancelled when it was cancelled.
    """
    started = time.monotonic()
    operation = task.about
    arguments: dict[str, Any] = {operation.acts: study} if operation.acts else {}
    for p in operation.inputs:
        opened = opened_inputs(study, p, task.inputs.get(p.name, ()), progress.part(0.0, 0.1))
        if p.many:
            arguments[p.name] = opened
        elif opened:
            arguments[p.name] = opened[0]
    settings = with_names(operation, task.settings, task.inputs, study)
    values = operation(progress.part(0.1, 0.7), **arguments, **settings)
    made = Made(values, seconds=time.monotonic() - started)
    if not prepare or operation.acts:
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
                image = task.first("image")
                one.of = image.item if image is not None else None
            found.append(one)
    except BaseException:
        for one in found:
            one.drop()
        raise
    return found


def opened_inputs(study: OpenStudy | None, p: Parameter, given: Sequence[Given], progress: Progress) -> list[Any]:
    """The things of an input. Where any number may be given, a file or a table that holds several gives all of them."""
    found = []
    for one in given:
        if p.many and one.value is None and one.file is not None and p.kind.name != "image":
            found += opened_parts(p.kind.name, one.file, one.part)
        elif p.many and one.value is None and _is_table_of_curves(p, one):
            assert study is not None and one.item is not None
            found += curves_of_table(study.thing(one.item))
        else:
            found.append(opened_input(study, p, one, progress))
    return found


def _is_table_of_curves(p: Parameter, given: Given) -> bool:
    return bool(p.kind.held_in) and given.thing.kind == p.kind.held_in


def opened_input(study: OpenStudy | None, p: Parameter, given: Given, progress: Progress) -> Any:
    """The thing of an input, read where it has to be."""
    if given.value is not None:
        return given.value
    if given.file is not None:
        return opened_file(p.kind.name, given.file, given.part, given.thing.place, progress)
    assert study is not None
    if p.kind.family == "record":
        record = None if given.item is None else study.items.get(given.item)
        if record is None:
            raise Trouble(f"There is no {given.thing.kind} “{given.thing.name}” yet", "make it first")
        return record
    if given.item is None:
        assert given.blank is not None
        return given.blank
    if p.kind.name == "label map":
        return study.label_map(given.item)
    thing = study.thing(given.item)
    if _is_table_of_curves(p, given):
        return only_curve(curves_of_table(thing), thing.title)
    if isinstance(thing, Image):
        if given.thing.place:
            thing = picked(thing, given.thing.place)
        if not thing.axes and not thing.levels and p.role != "grid":
            thing.fetch(progress)
    return thing


def pinned(study: OpenStudy, task: Task) -> dict[str, int]:
    """The label maps that a task was settled on, by the names of its inputs: doing it again means these, whichever are
    in hand by then."""
    found = {}
    for name, given in task.inputs.items():
        if len(given) == 1 and given[0].thing.kind == "label map":
            item = given[0].item
            if item is None and given[0].blank is not None:
                item = study.maps.born(given[0].blank)
            if item is not None:
                found[name] = item
    return found


def opened_file(kind: str, path: Path, part: str | None, place: tuple[int, ...], progress: Progress) -> Any:
    """A thing from a file; raises Trouble when it holds none of the kind."""
    if kind == "image":
        image = open_image(path, progress, series=part)
        return picked(image, place) if place else image
    things = opened_parts(kind, path, part)
    if len(things) != 1:
        return only_curve(things, path.name, path)
    return replace(things[0], name=path.stem) if kind == "transform" else things[0]


def opened_parts(kind: str, path: Path, part: str | None) -> list[Any]:
    """All things of a kind that a file holds, or those that a text names; raises Trouble when there is none."""
    known = format_of(path, kind)
    if known is None:
        raise Trouble(f"This kind of file holds no {kind}", f"{words_for(kind)} can be read", path)
    return known.open_parts(path, part)


def picked(image: Image, place: tuple[int, ...]) -> Image:
    """One volume of a series by its places along the axes, counted from 1; raises Trouble when there is none."""
    sizes = [a.size for a in image.axes]
    told = " and ".join(f"a {a.name} from 1 to {a.size}" for a in image.axes) or "none: it is a single volume"
    if len(place) != len(sizes) or any(not 1 <= n <= size for n, size in zip(place, sizes)):
        said = ",".join(map(str, place))
        raise Trouble(f"“@{said}” is no place in “{image.name}”", f"give {told}")
    return image.frame(tuple(n - 1 for n in place))
