"""From what is given to an operation, and what is not, to its inputs and settings: the one place that finds them, for
the window, the command line, Python, previews and recipes, in a study or from files alone."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from ..core.errors import Trouble
from ..core.kind import KINDS, stands_for
from ..core.left_out import Leads
from ..core.operation import Operation, find_operation
from ..core.parameter import Parameter
from ..core.reference import Reference
from ..core.sentence import with_article
from ..core.world import World
from .given import Given
from .items import Record
from .journal.logbook import Thing
from .new_names import with_names
from .open_study import OpenStudy
from .referring import ANY, Meant, file_meant, meant
from .store import store_for
from .task import Task

LISTED = 12
"""Things named in a sentence."""
LEADS, IN_HAND, ONLY, OF_IT, OWNER = "leads", "in hand", "the only one", "whose labels are named", "that they are of"


@dataclass(frozen=True)
class Lead:
    """What a person looks at: goes where nothing else is named.

    Parameters
    ----------
    thing : int, optional
        Id of what leads the Light table.
    place : tuple of int
        Of a series: the volume that is looked at, counted from 1.
    on_it : int, optional
        Id of what is worked on of it: its label map.
    """

    thing: int | None = None
    place: tuple[int, ...] = ()
    on_it: int | None = None


NOTHING = Lead()


def settle(
    study: OpenStudy | None, name: str, given: dict[str, Any], lead: Lead = NOTHING, *, look_for_ways: bool = True
) -> Task:
    """Find the inputs and check the settings; raises Trouble when something is missing or wrong.

    Inputs may be references in text, ids, paths, or things themselves. One that is not named is, in this order: what
    leads, for the first that can lead; that whose labels are named; the label map in hand on what is named, or one
    still to be made; the only one of the subject; the only one of the study. Without a study they are files.
    """
    operation = find_operation(name)
    given = operation.rerouted(given)
    wanted = {p.name: given.pop(p.name, None) for p in operation.inputs}
    settings = operation.checked(given)
    finding = _Finding(operation, study, lead) if study is not None else _OfFiles(operation)
    inputs: dict[str, tuple[Given, ...]] = {}
    for p in operation.inputs:
        value = wanted[p.name]
        several = value if isinstance(value, (list, tuple)) else [] if value is None else [value]
        if several and p.many:
            inputs[p.name] = tuple(finding.named(p, one) for one in several)
        elif value is not None and not p.many:
            inputs[p.name] = (finding.named(p, value),)
        elif p.many:
            if p.required:
                raise Trouble(f"“{operation.title}” needs {p.said}", p.wanted)
            inputs[p.name] = ()
    for p in operation.inputs:
        if p.name not in inputs and p.required:
            inputs[p.name] = finding.filled(p, inputs)
    for p in operation.inputs:
        if p.leads is not None and look_for_ways and not inputs.get(p.name):
            way = finding.way(p.leads, inputs)
            if way is not None:
                inputs[p.name] = (way,)
        if p.owner_of is not None and not inputs.get(p.name):
            owner = finding.owner(p, inputs.get(p.owner_of.other, ()))
            if owner is not None:
                inputs[p.name] = (owner,)
    inputs = {p.name: inputs[p.name] for p in operation.inputs if p.name in inputs}
    with_names(operation, settings, inputs, study)  # said now when a name cannot be filled
    return Task(operation.name, settings, inputs, frozenset(given))


def pinned(study: OpenStudy, task: Task) -> dict[str, int]:
    """The things that edits change which a task was settled on, by the names of its inputs: doing it again means these,
    whatever is in hand by then."""
    found = {}
    for p in task.about.inputs:
        given = task.inputs.get(p.name, ())
        if p.kind.edited and len(given) == 1:
            item = given[0].item
            if item is None and given[0].of is not None:
                item = store_for(p.kind.name).born(study, given[0])
            if item is not None:
                found[p.name] = item
    return found


def likely(study: OpenStudy, operation: Operation, p: Parameter, lead: Lead) -> int | None:
    """What an input would be if nothing were named, as a form shows it; None when none is surely meant."""
    if not p.required:
        return None
    finding = _Finding(operation, study, lead)
    so_far: dict[str, tuple[Given, ...]] = {}
    try:
        for first in (operation.lead, operation.on_lead):
            before = first is not None and operation.inputs.index(first) < operation.inputs.index(p)
            if first is not None and first.required and (before or first == operation.lead) and first != p:
                so_far[first.name] = finding.filled(first, so_far)
        return finding.filled(p, so_far)[0].item
    except Trouble:
        return None


def suiting(p: Parameter, records: list[Record]) -> list[Record]:
    """Of things of a kind those that an input can do with."""
    return records if p.suits is None else [r for r in records if p.suits.test(r)]


class _Finding:
    """Inputs of a study."""

    def __init__(self, operation: Operation, study: OpenStudy, lead: Lead):
        self.operation, self.study, self.lead = operation, study, lead

    def named(self, p: Parameter, value: Any) -> Given:
        study = self.study
        if isinstance(value, Given):  # known already, as a label map that is still to be made
            return value
        if isinstance(value, p.kind.type):
            return _handed_over(value, p)
        if isinstance(value, Path):
            value = str(value)
        if isinstance(value, bool) or not isinstance(value, (int, str, Reference)):
            raise Trouble(f"“{value}” is no {p.kind.name}", p.wanted)
        found = meant(study, value, p.thing_kind, files=p.kind.is_thing)
        if found.record is not None and stands_for(found.record.kind, p.thing_kind):
            return self._on(found.record, p)
        return self._of(found, p.thing_kind)

    def filled(self, p: Parameter, so_far: dict[str, tuple[Given, ...]]) -> tuple[Given, ...]:
        """An input that nobody has named."""
        known = [g for several in so_far.values() for g in several]
        kind = KINDS.get(p.thing_kind)
        on_it = self.operation.on_lead
        owners = [g.of for g in so_far.get(on_it.name, ()) if g.of is not None] if on_it is not None else []
        if owners and p == self.operation.lead:
            return (replace(self._of(Meant(self._record(owners[0])), p.thing_kind), whence=OF_IT),)
        if p == self.operation.lead and self.lead.thing is not None:
            record = self._record(self.lead.thing)
            place = () if "series" in self.operation.takes else self.lead.place
            return (replace(self._of(Meant(record, place), p.thing_kind), whence=LEADS),)
        if kind is not None and kind.of:
            before = self.operation.inputs[: self.operation.inputs.index(p)]  # what comes after it, it is brought to
            mine = [g for q in before for g in so_far.get(q.name, ())]
            owner = next((g for g in mine if g.thing.kind == kind.of and g.item is not None), None)
            leads = not known or p == on_it
            key = owner.item if owner is not None else self.lead.thing if leads else None
            if key is not None:
                return (self._on_or_other(self._record(key), p, known),)
        return (self._only(p, known),)

    def way(self, leads: Leads, so_far: dict[str, tuple[Given, ...]]) -> Given | None:
        """The mapping that leads from the world of one input to that of another, where they lie in two."""
        ends = [self._world(so_far.get(name, ())) for name in (leads.source, leads.target)]
        if ends[0] is None or ends[1] is None or ends[0].is_one_with(ends[1]):
            return None
        found = self.study.way(ends[0], ends[1])
        if found is None:
            return None
        name = found.mapping.name
        thing = Thing("transform", name, found.mapping.subject, hash=found.mapping.content_hash())
        return Given(thing, value=found.mapping, whence=f"found {found.words}")

    def owner(self, p: Parameter, of: tuple[Given, ...]) -> Given | None:
        """What another input is of."""
        key = next((g.of for g in of if g.of is not None), None)
        return None if key is None else replace(self._of(Meant(self._record(key)), p.thing_kind), whence=OWNER)

    def _world(self, given: tuple[Given, ...]) -> World | None:
        record = self.study.items.get(given[0].item) if given and given[0].item is not None else None
        return None if record is None or record.space is None or not record.space.world.id else record.space.world

    def _only(self, p: Parameter, known: list[Given]) -> Given:
        """The only thing that suits: of the subject of what is named already, else of the study."""
        items, kind = self.study.items, KINDS.get(p.thing_kind)
        used = {g.item for g in known}
        there = suiting(p, items.of_kind(*(() if p.thing_kind == ANY else (p.thing_kind,))))
        fits = [r for r in there if r.id not in used]
        subject = next((g.thing.subject for g in known if g.thing.subject), "")
        own = [r for r in fits if r.subject == subject] if subject else fits
        if len(own) == 1:
            whence = ONLY if len(fits) == 1 else f"the only one of {subject}"
            return replace(self._of(Meant(own[0]), p.thing_kind), whence=whence)
        if kind is not None and kind.of and not there:
            owners = items.of_kind(kind.of)
            if len(owners) == 1:
                return self._on(owners[0], p)
        said = p.suits.words if p.suits is not None else with_article(p.thing_kind)
        names = ", ".join(str(r.reference) for r in (own or fits)[:LISTED])
        raise Trouble(
            f"“{self.operation.title}” needs {said}",
            f"choose one of: {names or ('there is none yet' if not there else 'there is no other')}",
            self.study.folder,
        )

    def _on_or_other(self, owner: Record, p: Parameter, known: list[Given]) -> Given:
        """What is worked on of a thing; where that is given already, the only other one there is."""
        found = self._on(owner, p)
        used = {g.item for g in known if g.item is not None}
        if found.item not in used:
            return found
        others = [r for r in self.study.items.on(owner.id, p.thing_kind) if r.id not in used and not r.removed]
        if len(others) == 1:
            return replace(self._of(Meant(others[0]), p.thing_kind), whence=f"the only other one of {owner.name}")
        names = ", ".join(str(r.reference) for r in others[:LISTED])
        raise Trouble(
            f"“{self.operation.title}” needs another {p.thing_kind} than “{found.thing.name}”",
            f"choose one of: {names}" if names else "there is no other on this image",
            self.study.folder,
        )

    def _on(self, owner: Record, p: Parameter) -> Given:
        """What is worked on of a thing: its label map in hand, or one still to be made."""
        lead = self.lead
        if lead.thing == owner.id and lead.on_it is not None and p == self.operation.on_lead:
            seen = self._record(lead.on_it)
            if seen.kind == p.thing_kind:
                return replace(self._of(Meant(seen), p.thing_kind), whence=IN_HAND)
        found = store_for(p.thing_kind).on(self.study, owner)
        if isinstance(found, Record):
            return replace(self._of(Meant(found), p.thing_kind), whence=IN_HAND)
        return found

    def _record(self, key: int) -> Record:
        record = self.study.items.get(key)
        if record is None:
            raise Trouble(f"There is nothing with the id {key} in this study", "choose something on the Shelf")
        return record

    def _of(self, found: Meant, kind: str) -> Given:
        if found.file is not None:
            return given_file(kind, found)
        record = found.record
        assert record is not None
        identity = self.study.identity(record)
        thing = Thing(record.kind, record.name, record.subject, record.owner, found.place, record.id, identity)
        return Given(thing, record.id, record.of)


class _OfFiles:
    """Inputs that are plain files."""

    def __init__(self, operation: Operation):
        self.operation = operation

    def named(self, p: Parameter, value: Any) -> Given:
        if isinstance(value, p.kind.type):
            return _handed_over(value, p)
        found = file_meant(str(value))
        if found is None or found.file is None:
            raise Trouble("There is no file or folder of this name", "check the name, or add --study", str(value))
        return given_file(p.kind.name, found)

    def filled(self, p: Parameter, so_far: dict[str, tuple[Given, ...]]) -> tuple[Given, ...]:
        operation = self.operation
        if not p.kind.of:
            what = f"“{operation.title}” needs {with_article(p.kind.name)}"
            raise Trouble(what, p.wanted + ", the latter with --study")
        owner = next(
            (so_far[q.name] for q in operation.inputs if q.kind.name == p.kind.of and so_far.get(q.name)), None
        )
        chosen = any(q.role == "label" and not q.required for q in operation.settings)  # may do without labels
        if owner is None or (any(r.kind.is_read for r in operation.results) and not chosen):
            raise Trouble(
                f"“{operation.title}” needs a {p.kind.name}",
                f"name a file with --{p.flag}, or work in a study with --study",
            )
        return ()  # an empty one, on the grid of what it is of

    def way(self, leads: Leads, so_far: dict[str, tuple[Given, ...]]) -> Given | None:
        return None

    def owner(self, p: Parameter, of: tuple[Given, ...]) -> Given | None:
        return None


def given_file(kind: str, found: Meant) -> Given:
    """A file as an input."""
    assert found.file is not None
    stat = found.file.stat()
    digest = f"{found.file.resolve()} {stat.st_size} {stat.st_mtime_ns}"
    thing = Thing(kind, found.part or found.file.name, place=found.place, hash=digest, path=str(found.file))
    return Given(thing, file=found.file, part=found.part)


def _handed_over(value: Any, p: Parameter) -> Given:
    digest = value.content_hash() if hasattr(value, "content_hash") else ""
    name = getattr(value, "name", "") or getattr(value, "title", "")
    return Given(Thing(p.kind.name, name, getattr(value, "subject", ""), hash=digest), value=value)
