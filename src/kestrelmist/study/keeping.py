"""Taking into the study what a task has made, with its line in the logbook: one transaction."""

from __future__ import annotations

import shutil
import sqlite3
from collections.abc import Callable
from dataclasses import replace
from typing import Any

from ..core.errors import Trouble
from ..core.image import Image
from ..core.kind import KINDS, can_lead, is_edited
from ..core.left_out import Found
from ..core.operation import Result
from ..core.placement import Placement
from ..core.progress import Progress, silent
from ..core.table import Table
from .given import Given
from .inputs import settle
from .items import Record
from .journal.changes import Change, ItemChange
from .journal.history import Stale
from .journal.logbook import Step, Thing, Things
from .open_study import OpenStudy
from .store import Prepared, store_for
from .task import Made, Task, compute


class AlreadyThere(Trouble):
    """All that was to be kept is in the study already."""


def run(study: OpenStudy, name: str, given: dict[str, Any], progress: Progress | None = None) -> Any:
    """Settle, compute and keep in a row.

    Returns
    -------
    What a person asked for: ids of new images (a list), a Table, a LabelEdit that has been applied, a Placement, the id
    of a new transform; a dict of these by name when the operation has several results.
    """
    progress = progress or silent()
    task = settle(study, name, given)
    made = compute(study, task, progress.part(0.0, 0.95), prepare=not study.read_only)
    kept = keep(study, task, made)
    return kept if len(kept) != 1 else next(iter(kept.values()))


def keep(study: OpenStudy, task: Task, made: Made, into: int = 0) -> dict[str, Any]:
    """Keep what a task has made; returns it by the names of its results, things that were kept as their ids. It is one
    with the entry `into` of the history, where that is still the last one.

    An image that comes in and is in the study already (the same values at the same place, of the same subject), or that
    the same step has made of the same things, is not kept twice: of several the others are, of one alone that is said.

    Raises
    ------
    Stale
        When a label map has changed since the task was settled.
    Trouble
        When the study cannot be written, or nothing new has come.
    """
    return keep_and_tell(study, task, made, into)[0]


def keep_and_tell(study: OpenStudy, task: Task, made: Made, into: int = 0) -> tuple[dict[str, Any], Things]:
    """As `keep`; also gives the things that were made, as the logbook knows them."""
    if task.about.acts:  # it has written its own steps
        step = next((s for s in study.logbook.last(50) if s.operation == task.operation), None)
        outputs = _things_of(study, task, made) or (step.outputs if step else {})
        return dict(made.values), outputs
    if study.read_only:
        if any(not isinstance(v, Table) for v in made.values.values()):
            study.catalogue.require_writable()
        return dict(made.values), {}
    try:
        keeping = _Keeping(study, task, made)
        return keeping.kept(into), keeping.outputs
    finally:
        made.drop()


def keep_into(study: OpenStudy, task: Task, made: Made, into: int) -> int:
    """As `keep`, in one entry of the history with what came before; returns the entry."""
    try:
        keeping = _Keeping(study, task, made)
        keeping.kept(into)
        return keeping.entry
    finally:
        made.drop()


def _things_of(study: OpenStudy, task: Task, made: Made) -> Things:
    """What an operation that acts on the study has kept by itself, and gave the ids of."""
    found: Things = {}
    for result in task.about.results:
        keys = made.values.get(result.name)
        if result.kind.is_thing and isinstance(keys, list) and keys:
            records = [study.items.get(key) for key in keys]
            found[result.name] = tuple(study.as_thing(record) for record in records if record is not None)
    return found


class _Keeping:
    def __init__(self, study: OpenStudy, task: Task, made: Made):
        self.study, self.task, self.made = study, task, made
        self.changes: list[Change] = []
        self.outputs: Things = {}
        self.result: dict[str, Any] = {}
        self.taken: list[tuple[Prepared, int, Any]] = []
        self.known: list[tuple[Prepared, Record]] = []
        self.entry = 0
        self.born: list[tuple[str, int, Given]] = []
        """The kind, id and input of what was made for an edit."""

    def kept(self, into: int = 0) -> dict[str, Any]:
        task = self.task
        edits = [r.name for r in task.about.results if r.kind.is_change and is_edited(r.kind.alters)]
        title = next((self.made.values[name].title for name in edits), task.title)
        self.entry = self._written(self._gather, title, into=into)
        return self.result

    def _written(self, gather: Callable[[sqlite3.Connection], Step], title: str, into: int = 0) -> int:
        """One transaction around everything; what was renamed goes when it fails."""

        def all_of_it(db: sqlite3.Connection) -> tuple[list[Change], Step]:
            step = gather(db)
            return self.changes if any(not self._is_table(c) for c in self.changes) else [], step

        try:
            entry = self.study.history.do(all_of_it, title=title, into=into)
        except BaseException:
            for prepared, key, _ in self.taken:
                folder = self.study.folder / store_for(prepared.kind).folder / str(key)
                shutil.rmtree(folder, ignore_errors=True)
                store_for(prepared.kind).forget(self.study, key)
            for kind, key, target in self.born:
                store_for(kind).not_kept(self.study, key, target)
            raise
        for _, key, value in self.taken:
            self.study.hold(key, value)
        return entry

    def _gather(self, db: sqlite3.Connection) -> Step:
        self._require_as_settled()
        for result in self.task.about.results:
            value = self.made.values[result.name]
            if result.kind.is_thing:
                self._take(db, result.name, value, result.many)
            elif result.kind.is_change and is_edited(result.kind.alters):
                self._edit(db, result, value)
            elif result.kind.is_change:
                self._place(result, value)
            else:
                self.result[result.name] = value
        self._refuse_when_nothing_new()
        return step_of(self.task, self.made, self.outputs)

    def _require_as_settled(self) -> None:
        """Raises Stale when something that edits change has changed since: the numbers are of no state there is."""
        for given in (g for several in self.task.inputs.values() for g in several):
            if is_edited(given.thing.kind) and given.item is not None and given.value is None:
                if self.study.history.revision(given.item) != _revision(given):
                    raise Stale(f"“{given.thing.name}” has changed meanwhile", "do it again")

    def one_image(self, step: Step, into: int) -> tuple[int, int]:
        """Keep the image under a given step; see `keep_image`."""

        def gather(db: sqlite3.Connection) -> Step:
            self._take(db, "image", self.made.values["image"], True)
            self._refuse_when_nothing_new()
            return replace(step, outputs=self.outputs)

        entry = self._written(gather, step.title, into=into)
        return self.result["image"][0], entry

    def _is_table(self, change: Change) -> bool:
        """Results to be read are no step that undo stops at, unless something on the Shelf came with them."""
        return any(key == change.item and prepared.is_read for prepared, key, _ in self.taken)

    def _refuse_when_nothing_new(self) -> None:
        if self.known and not any(not p.is_read for p, _, _ in self.taken):
            prepared, record = self.known[0]
            more = f", and {len(self.known) - 1} more" if len(self.known) > 1 else ""
            raise AlreadyThere(
                f"“{prepared.name}” is in the study already, as “{record.name}” of {record.subject}{more}",
                "open it from the Shelf",
            )

    def _take(self, db: sqlite3.Connection, name: str, value: Any, many: bool) -> None:
        keys: list[int] = []
        things: list[Thing] = []
        for prepared, thing in zip(self.made.prepared[name], value if many else [value]):
            kind = KINDS.get(prepared.kind)
            same = self._same(prepared) if kind is not None and kind.once else None
            if same is not None:
                self.known.append((prepared, same))
                continue
            record = self._row(db, prepared, thing)
            keys.append(record.id)
            things.append(Thing(record.kind, record.name, record.subject, record.owner, (), record.id, record.hash))
        self.outputs[name] = tuple(things)
        first = next(iter(self.made.prepared[name]), None)
        if first is not None and first.is_read:
            self.result[name] = value
        elif many or (first is not None and can_lead(first.kind)):
            self.result[name] = keys
        else:
            self.result[name] = keys[0] if keys else None

    def _same(self, prepared: Prepared) -> Record | None:
        """The image that is not kept a second time: one that comes from outside and is there, or one that the same step
        has made. A step that changes nothing, or nothing but names and units, has made an image all the same."""
        fits = self.study.same_images(prepared)
        if fits and self.task.inputs:
            of = [g.thing.item for given in self.task.inputs.values() for g in given]
            steps = [
                s
                for s in self.study.logbook.with_key(self.task.key)
                if [t.item for things in s.inputs.values() for t in things] == of
            ]
            made = {t.item for s in steps for things in s.outputs.values() for t in things}
            fits = [r for r in fits if r.id in made]
        return next(iter(fits), None)

    def _row(self, db: sqlite3.Connection, prepared: Prepared, thing: Any, of: int | None = None) -> Record:
        study = self.study
        of = prepared.of if of is None else of
        subject = prepared.subject
        kind = prepared.kind
        coming = [key for _, key, _ in self.taken]
        named = prepared.name
        read = prepared.is_read
        if not read:
            named = study.items.free_name(prepared.name, kind, subject, of, coming=coming)
        row = Record(0, kind, subject, named, of, prepared.space, prepared.hash, prepared.body, removed=True)
        row = replace(row, made_of=self._made_of())
        key = study.items.insert(db, row, prepared.thumbnail)
        facts = store_for(kind).take(study, prepared, key)
        self.taken.append((prepared, key, thing))
        if thing is not None:
            store_for(kind).coming(study, key, thing, named)
        if read:
            facts["removed"] = False
        if facts:
            study.items.update(db, key, facts)
        if not read:
            self.changes.append(ItemChange(key, self.task.title, {"removed": True}, {"removed": False}))
        found = study.items.get(key)
        assert found is not None
        for other in prepared.with_it:
            other.subject = subject
            self._row(db, other, None, key)
        return found

    def _made_of(self) -> int | None:
        """What the step was given first: what leads, else whatever it is."""
        lead = self.task.of(self.task.about.lead)
        first = next((g for several in self.task.inputs.values() for g in several), None)
        given = lead or first
        return None if given is None else given.item

    def _edit(self, db: sqlite3.Connection, result: Result, edit: Any) -> None:
        target = self.task.of(self.task.about.changed_by(result.kind))
        assert target is not None
        kind = result.kind.alters
        key, revision, made = store_for(kind).for_edit(self.study, db, target)
        if made:
            self.born.append((kind, key, target))
        self.changes.append(store_for(kind).change(self.study, key, edit, revision))
        record = self.study.items.get(key)
        assert record is not None
        self.outputs[result.name] = (Thing(record.kind, record.name, record.subject, record.owner, (), key),)
        self.result[result.name] = edit

    def _place(self, result: Result, placement: Placement) -> None:
        image = self.task.of(self.task.about.changed_by(result.kind))
        if image is None or image.item is None:
            raise Trouble("Only images of the study can be placed here", "name one that is on the Shelf")
        now = self.study.find(image.item)
        if placement.was is not None and now.space is not None and now.space.as_dict() != placement.was.as_dict():
            raise Stale(f"“{now.name}” was moved meanwhile", "do it again")
        self.changes += self.study.placing(image.item, placement, self.task.title)
        record = self.study.items.get(image.item)
        assert record is not None
        self.outputs[result.name] = (Thing(record.kind, record.name, record.subject, "", (), record.id, record.hash),)
        self.result[result.name] = placement


def _revision(given: Given) -> int:
    """The state of a label map that a task was settled on."""
    return int(given.thing.hash.rpartition("@")[2])


def step_of(task: Task, made: Made | None = None, outputs: Things | None = None) -> Step:
    """A task's line in the logbook."""
    inputs = {name: tuple(g.thing for g in given) for name, given in task.inputs.items()}
    settings = task.about.written(task.settings)
    seconds = made.seconds if made is not None else 0.0
    return Step(
        task.operation,
        task.title,
        settings,
        inputs,
        outputs or {},
        seconds,
        task.key,
        task.about.version,
        found=_found(task, made.found if made is not None else {}),
    )


def _found(task: Task, found: dict[str, Found]) -> dict[str, list]:
    """What was used for what nobody gave, as the logbook holds it."""
    named = {
        name: [", ".join(str(g.thing.reference) for g in given), given[0].whence]
        for name, given in task.inputs.items()
        if given and given[0].whence
    }
    values = {name: one.value for name, one in found.items()}
    written = task.about.written(values)
    return named | {name: [value, found[name].whence] for name, value in written.items()}


def keep_image(
    study: OpenStudy, image: Image, step: Step, progress: Progress | None = None, into: int = 0
) -> tuple[int, int]:
    """Keep one image under a step of its own, as gathering does line by line; returns its id and the entry of the
    history, into which the next one can be put so that all are undone together.

    Raises Trouble when it is in the study already, or the study cannot be written.
    """
    prepared = store_for("image").prepare(study, image, progress or silent())
    made = Made({"image": [image]}, {"image": [prepared]}, step.seconds)
    try:
        return _Keeping(study, Task(step.operation, {}, {}), made).one_image(step, into)
    finally:
        made.drop()
