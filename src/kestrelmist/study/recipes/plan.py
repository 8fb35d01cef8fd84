"""A recipe checked before it starts: on whom, with what, what is to be mended, what time and room it may take."""

from __future__ import annotations

import shutil
from collections.abc import Collection, Sequence
from dataclasses import dataclass, field
from statistics import median
from typing import TYPE_CHECKING

from ...core.errors import Trouble
from ...core.operation import find_operation
from ...core.table import Column, Table
from .needs import bytes_of
from .plan_notice import LOOK, PLAN_CHECKS, WRONG, Looked, PlanNotice
from .recipe import Recipe
from .units import Cohort, Unit, Use

if TYPE_CHECKING:
    from ..study import Study

READY, TO_LOOK_AT, LACKING, LEFT_OUT = "ready", "to look at", "lacks something", "left out"


@dataclass(frozen=True)
class Plan:
    """What would happen.

    Parameters
    ----------
    recipe : Recipe
        As it runs.
    units : tuple of Unit
    notices : tuple of PlanNotice
        Open and waived ones.
    waived : dict
        Reasons, by keys of notices.
    left_out : dict
        Units that are left out, and why.
    seconds : float, optional
        What all steps may take one after another, by what such steps took before; None where that is not known.
    of_unit : dict
        The same of each unit.
    bytes_needed : int
        About what it writes.
    bytes_free : int
    passed : tuple of str
        Checks that had nothing to say.
    """

    recipe: Recipe
    units: tuple[Unit, ...]
    notices: tuple[PlanNotice, ...] = ()
    waived: dict[str, str] = field(default_factory=dict)
    left_out: dict[str, str] = field(default_factory=dict)
    seconds: float | None = None
    bytes_needed: int = 0
    bytes_free: int = 0
    passed: tuple[str, ...] = ()

    @property
    def open(self) -> list[PlanNotice]:
        """Notices that nobody has waived, of those who are not left out."""
        return [n for n in self.notices if n.key not in self.waived and n.unit not in self.left_out]

    def state(self, unit: Unit) -> str:
        """Whether a unit is ready."""
        if unit.key in self.left_out:
            return LEFT_OUT
        levels = {n.level for n in self.open if n.unit == unit.key or (not n.unit and n.level == WRONG)}
        return LACKING if unit.lacks or WRONG in levels else TO_LOOK_AT if LOOK in levels else READY

    @property
    def counts(self) -> dict[str, int]:
        """How many are in each state."""
        found = dict.fromkeys((READY, TO_LOOK_AT, LACKING, LEFT_OUT), 0)
        for unit in self.units:
            found[self.state(unit)] += 1
        return found

    @property
    def runs(self) -> list[Unit]:
        """The units that would run."""
        return [u for u in self.units if self.state(u) in (READY, TO_LOOK_AT)]


def plan_of(
    study: Study,
    recipe: Recipe,
    subjects: Sequence[str] | None = None,
    use: Use | None = None,
    left_out: dict[str, str] | None = None,
    waived: dict[str, str] | None = None,
    workers: int = 1,
    only: Collection[str] | None = None,
) -> Plan:
    """Check a recipe on subjects of a study, or on all.

    Parameters
    ----------
    use : dict
        Things chosen for slots, by unit and slot.
    left_out, waived : dict
        Units that are left out and notices that are waived, with reasons.
    only : collection of str, optional
        Names of the checks to make.

    Raises
    ------
    Trouble
        When a step needs what another one gives that is switched off, or there is nobody.
    """
    running = recipe.running()
    units = tuple(Cohort(study, running, use).units(subjects))
    if not units:
        raise Trouble("There is no subject in this study", "gather some images first", study.folder)
    numbers = tuple(n for n, step in enumerate(recipe.steps, 1) if not step.off)
    left = left_out or {}
    looked = Looked(study, running, tuple(u for u in units if u.key not in left), numbers, workers)
    notices: list[PlanNotice] = []
    passed = []
    for check in PLAN_CHECKS.values():
        if only is not None and check.name not in only:
            continue
        found = check.function(looked)
        notices += found
        if not found:
            passed.append(check.name)
    notices.sort(key=lambda n: (n.level != WRONG, n.unit == ""))
    times = seconds_of(study, running)
    seconds = None if times is None else times * sum(u.key not in left for u in units)
    needed = sum(bytes_of(running, u, looked) for u in looked.whole)
    free = shutil.disk_usage(study.folder).free
    return Plan(running, units, tuple(notices), dict(waived or {}), dict(left), seconds, needed, free, tuple(passed))


def seconds_of(study: Study, recipe: Recipe) -> float | None:
    """What the steps of one unit may take, by what such steps took before; None where one was never done."""
    took: dict[str, list[float]] = {}
    for before in study.logbook.entries():
        if not before.undone and before.seconds > 0:
            took.setdefault(before.operation, []).append(before.seconds)
    total = 0.0
    for step in recipe.steps:
        name = find_operation(step.operation).name
        if name not in took:
            return None
        total += median(took[name][-50:])
    return total


def plan_table(plan: Plan) -> Table:
    """One row a unit and notice: who, what state, what is said."""
    named = any(u.name for u in plan.units)
    columns = [Column("subject"), *([Column("run")] if named else []), Column("state"), Column("comes_in"),
               Column("check"), Column("notice"), Column("waived")]  # fmt: skip
    table = Table("Recipe checked", columns)
    slots = len(plan.recipe.slots)
    for unit in plan.units:
        mine = [n for n in plan.notices if n.unit == unit.key]
        who = (unit.subject, *([unit.name] if named else []), plan.state(unit), f"{len(unit.filled)} of {slots}")
        said = [(n.check, n.sentence, plan.waived.get(n.key, "")) for n in mine]
        table.rows += [(*who, *one) for one in said or [("", "", "")]]
    for n in plan.notices:
        if not n.unit:
            blank = ("all", *([""] if named else []), "", "")
            table.rows.append((*blank, n.check, n.sentence, plan.waived.get(n.key, "")))
    return table
