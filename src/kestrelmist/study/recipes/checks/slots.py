"""Whether everybody has what the recipe needs, and whether it belongs together."""

from __future__ import annotations

import os

from ....align.packs import shipped
from ....core.caveat import SIDES_NOT_GIVEN, SIDES_UNKNOWN
from ....core.mapping import Mapping
from ....core.operation import find_operation
from ....formats.bids_names import parsed, parsed_rest
from ....formats.pack import read_pack
from ...items import ImageRecord, Record
from ..mends import LeaveOut, NamedLike, OpenStandard, PlanMend, UseThing
from ..plan_notice import LOOK, WRONG, Looked, PlanNotice, plan_check
from ..slot_pattern import fitting, pattern_of, shown
from ..units import CHOSEN, Lack, Unit

OFFERED = 3
"""Things that are offered for a slot."""
ALIKE = 3
"""Letters that names begin with together to be taken for runs of the same."""
LEAVE_OUT = LeaveOut()
SAME = ("ses", "run", "task")
"""Parts of a BIDS name that tell what belongs to which run."""


@plan_check
def what_comes_in(looked: Looked) -> list[PlanNotice]:
    """Slots that nothing fits, or several things do."""
    found = []
    for unit in looked.units:
        for lack in unit.lacks:
            fits = list(lack.fits) or _of_other_visits(looked, unit, lack.slot.name)
            mends: list[PlanMend] = [UseThing(f"Use “{r.name}”", lack.slot.name, r.id) for r in fits[:OFFERED]]
            if lack.slot.always and lack.slot.subject == read_pack(shipped()).name:
                mends = [OpenStandard()]
            elif not fits:
                mends = _near(looked, unit, lack)
            sentence = f"{unit.words}: {lack.sentence}."
            found.append(PlanNotice("what comes in", WRONG, sentence, unit.key, (LEAVE_OUT, *mends)))
    return found


def _near(looked: Looked, unit: Unit, lack: Lack) -> list[PlanMend]:
    """What is there in place of what is missing: by another name for all where nobody has it, else for this one."""
    name = lack.slot.name
    if any(name in other.filled for other in looked.units):
        return [UseThing(f"Use “{r.name}”", name, r.id) for r in lack.near[:OFFERED]]
    patterns = dict.fromkeys(pattern_of(r.name, unit.subject) for r in lack.near[:OFFERED])
    alike = os.path.commonprefix(list(patterns)).rstrip(" (_-")
    if lack.slot.each and len(patterns) > 1 and len(alike) >= ALIKE:
        patterns = {f"{alike}*": None} | patterns
    return [NamedLike(f"It is named “{shown(one)}”", name, one) for one in patterns]


def _of_other_visits(looked: Looked, unit: Unit, slot: str) -> list[Record]:
    """What could stand in: things of the same subject that fill the slot of another of its runs."""
    others = [u for u in looked.units if u.subject == unit.subject and u.key != unit.key]
    return [u.filled[slot].record for u in others if slot in u.filled]


@plan_check
def belongs_together(looked: Looked) -> list[PlanNotice]:
    """Things whose names or visits say that they are of another run than the one they are used with."""
    each = looked.recipe.each
    if each is None:
        return []
    found = []
    for unit in looked.whole:
        run = unit.filled[each.name].record
        for slot in looked.recipe.slots:
            one = unit.filled[slot.name]
            if slot.each or one.record.id == run.id or one.record.subject != run.subject:
                continue
            words = _differs(looked, run, one.record)
            if words:
                mends: list[PlanMend] = [] if one.whence == CHOSEN else [LEAVE_OUT]
                others = looked.study.items.of_kind(slot.kind)
                fits = fitting(slot.pattern, [r for r in others if r.subject == run.subject and r.id != one.record.id])
                mends += [UseThing(f"Use “{r.name}”", slot.name, r.id) for r in fits[:OFFERED]]
                sentence = f"{unit.words}: “{one.record.name}” ({slot.name}) is of {words}."
                found.append(PlanNotice("belongs together", LOOK, sentence, unit.key, tuple(mends)))
    return found


def _differs(looked: Looked, run: Record, other: Record) -> str:
    """How names or visits of two things contradict each other; empty where they do not."""
    mine, theirs = (parsed(r.name) or parsed_rest(r.name) for r in (run, other))
    if mine is not None and theirs is not None:
        for key in SAME:
            a, b = mine.entities.get(key), theirs.entities.get(key)
            if a and b and a != b and not (key != "run" and theirs.suffix in ("T1w", "T2w")):
                return f"{ {'ses': 'visit', 'run': 'run', 'task': 'task'}[key] } {b}, and the run of {a}"
    visits = [looked.visits.name(r) for r in (run, other)]
    return f"the visit “{visits[1]}”, and the run of “{visits[0]}”" if all(visits) and visits[0] != visits[1] else ""


@plan_check
def lies_in_one_space(looked: Looked) -> list[PlanNotice]:
    """Images that a step takes together and that lie in two spaces, before any step has found a way between them."""
    found = []
    for unit in looked.whole:
        said: set[str] = set()
        for step in looked.recipe.steps:
            about = find_operation(step.operation)
            if any(issubclass(r.kind.type, Mapping) for r in about.results):
                break  # it finds the way, and later steps have it
            sources = [looked.source(unit, text) for text in step.pointers]
            images = [r for r in sources if isinstance(r, ImageRecord) and r.grid.world.id]
            for other in images[1:]:
                one, two = images[0].grid.world, other.grid.world
                if one.is_one_with(two) or looked.study.way(one, two) is not None:
                    continue
                words = f"“{other.name}” lies in another space than “{images[0].name}”, and no transform leads there"
                if words not in said:
                    said.add(words)
                    sentence = f"{unit.words}: {words}."
                    found.append(PlanNotice("lies in one space", LOOK, sentence, unit.key, (LEAVE_OUT,)))
    return found


@plan_check
def sides_known(looked: Looked) -> list[PlanNotice]:
    """Images of which nobody knows which side is left."""
    found = []
    for unit in looked.whole:
        told = [
            f"“{one.record.name}”"
            for one in unit.filled.values()
            if isinstance(one.record, ImageRecord)
            and any(c.code in (SIDES_UNKNOWN, SIDES_NOT_GIVEN) for c in one.record.caveats)
        ]
        if told:
            sentence = f"{unit.words}: which side of {', '.join(told)} is left is not known."
            found.append(PlanNotice("sides known", LOOK, sentence, unit.key, (LEAVE_OUT,)))
    return found
