"""What mends a notice of the checks of a recipe: each kind knows what it does, and to whom."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar, Protocol


class Mender(Protocol):
    """Whoever holds a recipe and what was chosen for its run."""

    def leave_out(self, unit: str, why: str) -> None:
        """Leave somebody out of the run."""
        ...

    def use(self, unit: str, slot: str, item: int) -> None:
        """Put a thing into a slot of somebody."""
        ...

    def edit(self, operation: str, **given: Any) -> None:
        """Change the recipe by one of the operations on recipes."""
        ...

    def set_step(self, number: int, settings: dict[str, Any]) -> None:
        """Other settings of a step, counted from 1; None leaves one to the program."""
        ...

    def expect(self, **numbers: Any) -> None:
        """Expect other numbers."""
        ...

    def choose(self, what: int | str | None) -> None:
        """Look at a step, where something is to be typed."""
        ...

    def open_standard(self) -> None:
        """Take the standard space of the program into the study."""
        ...


@dataclass(frozen=True)
class PlanMend:
    """A button that mends a notice."""

    words: str
    for_each: ClassVar[bool] = False
    """Where several notices say the same it is done for each of them; else it is done once, which is enough."""
    for_one: ClassVar[bool] = False
    """It makes sense for a notice about one alone."""

    def words_for(self, many: bool) -> str:
        """What stands on the button, where it is about one or many."""
        return self.words

    def mend(self, by: Mender, unit: str, sentence: str) -> None:
        """Do it for a unit, of which the sentence was said."""
        raise NotImplementedError


@dataclass(frozen=True)
class LeaveOut(PlanMend):
    words: str = "Leave it out"
    for_each = True

    def words_for(self, many: bool) -> str:
        return "Leave them out" if many else self.words

    def mend(self, by: Mender, unit: str, sentence: str) -> None:
        by.leave_out(unit, sentence)


@dataclass(frozen=True)
class UseThing(PlanMend):
    """Another thing of this one's for a slot."""

    slot: str
    item: int
    for_one = True

    def mend(self, by: Mender, unit: str, sentence: str) -> None:
        by.use(unit, self.slot, self.item)


@dataclass(frozen=True)
class NamedLike(PlanMend):
    """Another pattern of a slot, for all."""

    slot: str
    pattern: str

    def mend(self, by: Mender, unit: str, sentence: str) -> None:
        by.edit("change-slot", slot=self.slot, pattern=self.pattern)


@dataclass(frozen=True)
class SetStep(PlanMend):
    """Another value of a setting of a step (counted from 1); None takes what each says."""

    step: int
    name: str
    value: Any = None

    def mend(self, by: Mender, unit: str, sentence: str) -> None:
        by.set_step(self.step, {self.name: self.value})


@dataclass(frozen=True)
class TypeIt(PlanMend):
    """A step is looked at, for something to be typed."""

    step: int

    def mend(self, by: Mender, unit: str, sentence: str) -> None:
        by.choose(self.step)


@dataclass(frozen=True)
class ExpectNumber(PlanMend):
    """Another number is what is expected."""

    name: str
    value: Any

    def mend(self, by: Mender, unit: str, sentence: str) -> None:
        by.expect(**{self.name: self.value})


@dataclass(frozen=True)
class OpenStandard(PlanMend):
    words: str = "Open it"

    def mend(self, by: Mender, unit: str, sentence: str) -> None:
        by.open_standard()
