"""What a check of a recipe says before it starts: a sentence, on whom, and what mends it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING, Any

from ...core.image import Image
from ...core.operation import Operation, find_operation
from ...core.parameter import Parameter
from ...core.registry import Registry
from ..items import ImageRecord, Record
from ..store import hash_of
from .mends import PlanMend
from .recipe import MADE, Recipe, pointer_of
from .units import Unit, Visits

if TYPE_CHECKING:
    from ..study import Study

WRONG, LOOK = "wrong", "look"


@dataclass(frozen=True)
class PlanNotice:
    """`unit` is the key of whom it is about, "" for all. What is "wrong" keeps its unit from running; what is to "look"
    at does not, and goes into the report, waived or not."""

    check: str
    level: str
    sentence: str
    unit: str = ""
    mends: tuple[PlanMend, ...] = ()

    @property
    def key(self) -> str:
        """Under which it is waived: another sentence of the same check is another notice."""
        return f"{self.check}|{self.unit}|{hash_of(self.sentence)}"


@dataclass(frozen=True)
class Looked:
    """What a check looks at: the study, the recipe as it runs, and everyone at once."""

    study: Study
    recipe: Recipe
    units: tuple[Unit, ...]
    numbers: tuple[int, ...] = ()
    """Of the steps as they run, their numbers in the recipe, with what is switched off counted."""
    workers: int = 1
    cache: dict[int, Image] = field(default_factory=dict)

    @cached_property
    def visits(self) -> Visits:
        """Which visit an image is of."""
        return Visits(self.study)

    @cached_property
    def whole(self) -> tuple[Unit, ...]:
        """The units that have all they need."""
        return tuple(u for u in self.units if not u.lacks)

    def number(self, n: int) -> int:
        """The number of a step in the recipe, of the n-th (from 0) that runs."""
        return self.numbers[n] if n < len(self.numbers) else n + 1

    def series(self, unit: Unit) -> ImageRecord | None:
        """The series that the steps are done on: what is in the slot for each, else the first one."""
        each = self.recipe.each
        order = [each.name] if each is not None else []
        for name in (*order, *unit.filled):
            record = unit.filled[name].record if name in unit.filled else None
            if isinstance(record, ImageRecord) and record.axes:
                return record
        return None

    def source(self, unit: Unit, text: str) -> Record | None:
        """The thing in a slot that something comes from, through the steps on the way; None for what does not."""
        found = MADE.match(text)
        if found is not None:
            step = self.recipe.steps[int(found[1]) - 1]
            about = find_operation(step.operation)
            lead = about.lead or about.on_lead or next(iter(about.inputs), None)
            given = step.inputs.get(lead.name, []) if lead is not None else []
            return self.source(unit, given[0]) if given else None
        pointer = pointer_of(text)
        filled = unit.filled.get(str(pointer[0])) if pointer is not None else None
        return None if filled is None else filled.record

    def given(self, unit: Unit, about: Operation, inputs: dict[str, list[str]]) -> dict[str, Any]:
        """Inputs of a step as far as they are known by now: what is said of the things that they come from."""
        found: dict[str, Any] = {}
        for p in about.inputs:
            records = [self.source(unit, text) for text in inputs.get(p.name, ())]
            things = [self._opened(r, p) for r in records]
            found[p.name] = things if p.many else next(iter(things), None)
        return found

    def _opened(self, record: Record | None, p: Parameter) -> Any:
        if not isinstance(record, ImageRecord) or not p.kind.leads:
            return None
        if record.id not in self.cache:
            self.cache[record.id] = self.study.image(record.id)
        return self.cache[record.id]


@dataclass(frozen=True)
class PlanCheck:
    """A check and its name, as a person reads it."""

    name: str
    function: Callable[[Looked], list[PlanNotice]]


PLAN_CHECKS: Registry[PlanCheck] = Registry(
    "check of a recipe", "kestrelmist.study.recipes.checks", order=lambda c: c.name
)


def plan_check(function: Callable[[Looked], list[PlanNotice]]) -> Callable[[Looked], list[PlanNotice]]:
    """Register a function as a check of recipes before they start."""
    name = function.__name__.replace("_", " ")
    PLAN_CHECKS.add(name, PlanCheck(name, function))
    return function
