"""On whom a recipe is done: the things of each subject, visit and run that fill its slots."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from difflib import SequenceMatcher
from typing import TYPE_CHECKING

from ...core.errors import Trouble
from ...core.operation import find_operation
from ...core.sentence import is_none
from ...core.subject import Subject
from ...formats.bids_names import parsed, parsed_rest
from ..items import ImageRecord, Record
from ..subjects import known_subjects, standard_spaces, visit_of
from .recipe import Recipe, Slot, pointer_of
from .slot_pattern import fitting, shown

if TYPE_CHECKING:
    from ..study import Study

ONLY, CHOSEN = "the only one", "chosen"
NEAR = 3
"""Things that are named in place of what is missing."""


@dataclass(frozen=True)
class Filled:
    """A thing in a slot, and how it was found."""

    record: Record
    whence: str = ONLY


@dataclass(frozen=True)
class Lack:
    """A slot that nothing fills, or that several fit; `fits` are those. Where there are none, `near` are things of the
    kind that are there, those called most like it first."""

    slot: Slot
    sentence: str
    fits: tuple[Record, ...] = ()
    near: tuple[Record, ...] = ()


@dataclass(frozen=True)
class Unit:
    """What the steps of a recipe are done on once: a subject, or one run of it.

    Parameters
    ----------
    key : str
        What it is known by, whatever it is called: the id of the run, or the name of the subject.
    subject, name : str
        Of the subject, and of the run within it; the latter is empty where there is but one.
    filled : dict
        The things in its slots, by the names of these.
    lacks : tuple of Lack
    """

    key: str
    subject: str
    name: str = ""
    filled: Mapping[str, Filled] = field(default_factory=dict)
    lacks: tuple[Lack, ...] = ()

    @property
    def words(self) -> str:
        return f"{self.subject} {self.name}".strip()

    @property
    def records(self) -> dict[str, Record]:
        """The things in the slots."""
        return {name: one.record for name, one in self.filled.items()}


Use = Mapping[str, Mapping[str, int]]
"""Things that somebody chose for slots: by unit, then by slot, their ids."""


class Visits:
    """Names of visits; all subjects are looked at once."""

    def __init__(self, study: Study):
        self.study = study
        self._subjects: dict[str, Subject] | None = None

    def name(self, record: Record) -> str:
        """The visit that an image is of; "" where nothing says it."""
        if not isinstance(record, ImageRecord):
            return ""
        if self._subjects is None:
            self._subjects = {one.name: one for one in known_subjects(self.study)}
        visit = visit_of(self.study, record, self._subjects.get(record.subject))
        return "" if visit is None else visit.name


class Cohort:
    """Finds the units of a recipe in a study; the things of a kind are looked through once.

    Parameters
    ----------
    study : Study
    recipe : Recipe
        As it runs (see `Recipe.running`).
    use : dict
        What somebody chose, by unit and slot.
    """

    def __init__(self, study: Study, recipe: Recipe, use: Use | None = None):
        self.study, self.recipe, self.use = study, recipe, use or {}
        self.standard = standard_spaces(study)
        self.visits = Visits(study)
        self._pools: dict[str, dict[str, list[Record]]] = {}

    def everyone(self) -> list[str]:
        """Every subject; a standard space is none."""
        return [name for name in self.study.subjects() if name not in self.standard]

    def units(self, subjects: Sequence[str] | None = None) -> list[Unit]:
        """The units of subjects, or of all, in their order."""
        return [unit for name in (self.everyone() if subjects is None else subjects) for unit in self.of(name)]

    def of(self, subject: str | None) -> list[Unit]:
        """The units of one subject; of the one the recipe was made on when none is named."""
        each = self.recipe.each
        whose = subject or self.recipe.subject
        if each is None:
            return [self._unit(whose or "", whose or "", "", subject, None)]
        fits = self.fitting(each, subject or each.subject or None)
        if not fits:
            return [self._unit(whose or "", whose or "", "", subject, None)]
        names = self._names(fits)
        return [self._unit(str(r.id), r.subject, names[r.id], subject, r) for r in fits]

    def fitting(self, slot: Slot, subject: str | None) -> list[Record]:
        """The things of a subject, or of all, that fit a slot."""
        if slot.always or slot.subject in self.standard:  # it is the same one for all
            subject = slot.subject
        fits = fitting(slot.pattern, self._pool(slot.kind, subject))
        return _taken_in(fits) or fits  # what was made of an image is often called after it

    def _pool(self, kind: str, subject: str | None) -> list[Record]:
        pools = self._pools.get(kind)
        if pools is None:
            pools = self._pools[kind] = {}
            for record in self.study.items.of_kind(kind):
                pools.setdefault(record.subject.casefold(), []).append(record)
        if subject is None:
            return [r for several in pools.values() for r in several]
        return pools.get(subject.casefold(), [])

    def _lack(self, slot: Slot, subject: str | None) -> Lack:
        """Nothing fits a slot: said with what is there."""
        words = f"there {is_none(slot.kind)} “{shown(slot.pattern)}”"
        if slot.always:
            return Lack(slot, f"{words} of {slot.subject}: open that standard space first")
        near = _taken_in(self._pool(slot.kind, subject)) if subject is not None else []
        wanted = shown(slot.pattern).casefold()
        near.sort(key=lambda r: -SequenceMatcher(None, wanted, r.name.casefold()).ratio())
        if near:
            told = ", ".join(f"“{r.name}”" for r in near[:NEAR])
            more = f" and {len(near) - NEAR} more" if len(near) > NEAR else ""
            words += f"; there {'is' if len(near) == 1 else 'are'} {told}{more}"
        return Lack(slot, words, near=tuple(near))

    def _names(self, fits: list[Record]) -> dict[int, str]:
        """What runs of a subject are called: by their visits where these differ, else by their own names."""
        if len(fits) == 1:
            return {fits[0].id: ""}
        visits = {r.id: self._visit(r) for r in fits}
        return (
            visits if len(set(visits.values())) == len(fits) and all(visits.values()) else {r.id: r.name for r in fits}
        )

    def _visit(self, record: Record) -> str:
        return self.visits.name(record)

    def _unit(self, key: str, subject: str, name: str, asked: str | None, run: Record | None) -> Unit:
        filled: dict[str, Filled] = {}
        lacks: list[Lack] = []
        chosen = self.use.get(key, {})
        for slot in self.recipe.slots:
            record = self.study.items.get(chosen[slot.name]) if slot.name in chosen else None
            if record is not None and not record.removed:
                filled[slot.name] = Filled(record, CHOSEN)
                continue
            if slot.each and run is not None:
                filled[slot.name] = Filled(run, "each" if name else ONLY)
                continue
            fits = self.fitting(slot, asked or slot.subject or None)
            found = self._of_several(fits, run)
            if found is not None:
                filled[slot.name] = found
            elif fits:
                told = ", ".join(str(r.reference) for r in fits[:6])
                words = f"“{shown(slot.pattern)}” fits {len(fits)} {slot.kind}s ({told})"
                lacks.append(Lack(slot, words, tuple(fits)))
            else:
                lacks.append(self._lack(slot, asked or slot.subject or None))
        lacks += [Lack(Slot("", "label map", ""), words) for words in self._maps_missing(filled)]
        return Unit(key, subject, name, filled, tuple(lacks))

    def _of_several(self, fits: list[Record], run: Record | None) -> Filled | None:
        """The one that is meant beside a run: of its visit, of its number, or called after it."""
        if len(fits) < 2:
            return Filled(fits[0]) if fits else None
        if run is None:
            return None
        visit = self._visit(run)
        tests = (
            ("of the same visit", lambda r: bool(visit) and self._visit(r) == visit),
            ("of the same run", lambda r: _run(r) is not None and _run(r) == _run(run)),
            ("called after the run", lambda r: r.name.casefold().startswith(run.name.casefold()) and r.id != run.id),
        )
        left, whence = fits, ONLY
        for words, test in tests:
            some = [r for r in left if test(r)]
            if some and len(some) < len(left):
                left, whence = some, words
            if len(left) == 1:
                return Filled(left[0], whence)
        return None

    def _maps_missing(self, filled: dict[str, Filled]) -> list[str]:
        """Label maps that steps look for by name, which neither the subject has nor an earlier step makes by drawing on
        them."""
        missing, drawn = [], set()
        for step in self.recipe.steps:
            about = find_operation(step.operation)
            target = about.edited
            for p in about.inputs:
                for text in step.inputs.get(p.name, ()):
                    pointer = pointer_of(text)
                    if pointer is None or pointer[0] not in filled or pointer[2].part is None:
                        continue
                    image, part = filled[str(pointer[0])].record, pointer[2].part
                    there = {m.name.casefold() for m in self.study.label_maps(image.id)}
                    sought = image.id, part.casefold()
                    if target is not None and p.name == target.name:
                        drawn.add(sought)
                    elif part.casefold() not in there and sought not in drawn:
                        missing.append(f"there is no label map “{part}” on “{image.name}”")
        return list(dict.fromkeys(missing))


def _taken_in(records: list[Record]) -> list[Record]:
    return [r for r in records if r.made_of is None]


def _run(record: Record) -> tuple[str, str] | None:
    """Session and number of the run, as a BIDS name gives them."""
    named = parsed(record.name) or parsed_rest(record.name)
    if named is None or not ("run" in named.entities or "ses" in named.entities):
        return None
    return named.entities.get("ses", ""), named.entities.get("run", "")


def require_filled(unit: Unit) -> dict[str, Record]:
    """The things in the slots of a unit; raises Trouble, naming everything that is missing or fits more than once."""
    if unit.lacks:
        whose = f"{unit.words or 'this study'}: "
        told = "; ".join(one.sentence for one in unit.lacks)
        raise Trouble(f"This recipe cannot run on {whose}{told}", "gather or rename what is missing")
    return unit.records


def using(use: Use, unit: str, slot: str, item: int) -> dict[str, dict[str, int]]:
    """With one more choice."""
    kept = {key: dict(chosen) for key, chosen in use.items()}
    kept.setdefault(unit, {})[slot] = item
    return kept
