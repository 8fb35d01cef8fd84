"""The recipe that is worked on: its steps, who it would be run on and what the checks say of them, and its run."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import asdict, replace
from typing import Any

import yaml
from PySide6.QtCore import QObject, QTimer, Signal

from ...core.errors import Trouble
from ...core.operation import find_operation
from ...study.recipes.book import RunBook, begin, last_of
from ...study.recipes.cohort import order_of
from ...study.recipes.plan import Plan, plan_of
from ...study.recipes.plan_notice import PlanNotice
from ...study.recipes.ready import kept, kept_record, ready_recipes, recipe_of_record
from ...study.recipes.recipe import Recipe, RecipeStep, Slot
from ...study.recipes.report.pictures import picture_of
from ...study.recipes.slice_trial import tried_on_slice
from ...study.recipes.units import Unit, using
from .recipe_choices import Choices
from .recipe_run import RunInHand
from .session import Session

CHOICES = "recipe choices"
"""Under which the study remembers what was chosen for a recipe: who is left out, what is waived, what fills slots."""


class RecipeModel(QObject):
    """One recipe of the study in hand. Edits are operations, and so versions that can be undone."""

    opened = Signal()
    """Another recipe, or none, is shown."""
    changed = Signal()
    """Its steps or slots are others, or another one of them is chosen."""
    planned = Signal()
    """The checks have said something new."""

    def __init__(self, session: Session):
        super().__init__(session)
        self.session, self.study = session, session.study
        self.name, self.recipe, self.version = "", Recipe(), 0
        self.key = 0
        """Its id in the study: it may be called otherwise."""
        self.is_open = False
        self.chosen: int | str | None = None
        """The number of the step, or the name of the slot, that is looked at."""
        self.unit = ""
        """The key of whom is looked at."""
        self.plan: Plan | None = None
        self.run = RunInHand(session, self)
        self.choices = Choices()
        self._checking: Any = None
        self._soon = QTimer(self, singleShot=True, interval=150)
        self._soon.timeout.connect(self._check)
        self.run.ended.connect(self._check_soon)
        session.things_changed.connect(self._follow)
        session.shelf_changed.connect(self._shelf)

    # which

    def names(self) -> list[str]:
        """The recipes of the study, and those of the program that are not in it."""
        mine = [r.name for r in kept(self.study)]
        return mine + [title for title in ready_recipes() if title not in mine]

    def open(self, name: str) -> None:
        """Show a recipe of the study; one of the program is taken into it first."""
        if kept_record(self.study, name) is not None or self._do("take-recipe", recipe=name):
            self._open(name)

    def begin(self, name: str, subject: str | None = None) -> None:
        """Begin a recipe, empty or out of the logbook."""
        given = {} if subject is None else {"subject": subject}
        if self._do("begin-recipe" if subject is None else "make-recipe", name=name, **given):
            self._open(name)

    def take(self, path: str) -> None:
        """Take a recipe out of a file."""
        before = set(self.names())
        if self._do("take-recipe", recipe=path):
            fresh = [n for n in self.names() if n not in before]
            self._open(fresh[-1] if fresh else self.name)

    def _open(self, name: str) -> None:
        record = kept_record(self.study, name)
        if record is None:
            return
        self.key, self.name, self.is_open = record.id, record.name, True
        self.chosen, self.plan, self.unit = None, None, ""
        self.choices = Choices.from_dict(self.study.catalogue.recall(f"{CHOICES}: {self.key}", {}))
        if not self.run.running:
            self.run.look_at(last_of(self.study.folder, lambda order: self.key == order.key or name == order.name))
        self._read()
        self.opened.emit()
        self.changed.emit()

    def close(self) -> None:
        """Put it away; a run goes on."""
        self.is_open = False
        self.opened.emit()

    def _read(self) -> None:
        record = self.study.items.get(self.key)
        if record is None or record.removed:
            self.is_open = False
            self.opened.emit()
            return
        self.name = record.name
        try:
            recipe, versions = recipe_of_record(self.study, record)
        except Trouble as trouble:
            self.session.trouble.emit(str(trouble))
            return
        self.recipe, self.version = recipe, versions.number
        if isinstance(self.chosen, int) and self.chosen > len(recipe.steps):
            self.chosen = len(recipe.steps) or None
        self._check_soon()

    def _follow(self, changed: tuple[int, ...]) -> None:
        """Things have changed: the recipe may be among them. Of what a run keeps, step by step, it is none."""
        if not self.is_open or self.session.closed:
            return
        if self.key not in changed:
            self._shelf()
        else:
            before, called = (self.recipe, self.version), self.name
            self._read()
            if (self.recipe, self.version) != before:
                self.changed.emit()
            if self.name != called:
                self.opened.emit()

    def _shelf(self) -> None:
        if self.is_open and not self.run.running:
            self._check_soon()

    # what is looked at

    def choose(self, what: int | str | None) -> None:
        """Look at a step, by its number, or at a slot, by its name."""
        if what != self.chosen:
            self.chosen = what
            self.changed.emit()

    def choose_unit(self, key: str) -> None:
        if key != self.unit:
            self.unit = key
            self.changed.emit()

    @property
    def step(self) -> RecipeStep | None:
        """The step that is looked at."""
        n = self.chosen
        return self.recipe.steps[n - 1] if isinstance(n, int) and 1 <= n <= len(self.recipe.steps) else None

    @property
    def slot(self) -> Slot | None:
        """The slot that is looked at."""
        return next((s for s in self.recipe.slots if s.name == self.chosen), None)

    # what is changed

    def still(self, key: int, number: int, step: RecipeStep) -> bool:
        """Whether a step is what it was when somebody began to type: in the same recipe, and as it was. Else that is
        said."""
        steps = self.recipe.steps
        same = self.is_open and self.key == key and number <= len(steps) and steps[number - 1] == step
        if not same:
            self.session.said.emit("The step has changed meanwhile; what was typed was not set.")
        return same

    def edit(self, operation: str, **given: Any) -> None:
        """Change the recipe by one of the operations on recipes."""
        self._do(operation, recipe=self.name, **given)

    def _do(self, operation: str, **given: Any) -> bool:
        """One of the operations on recipes, at once; whether it was done. What it tells is seen on the page."""
        self.session.end_gesture()
        done = self.session.guarded(lambda: self.study.run(operation, **given)) is not None
        self.session.logbook_changed.emit()
        return done

    def set_step(self, number: int, settings: dict[str, Any]) -> None:
        """Other settings of a step; None leaves one to the program."""
        self.edit("change-step", number=number, settings=_told(settings))

    def feed(self, number: int, role: str, pointers: list[str]) -> None:
        """Something else as an input of a step."""
        self.edit("change-step", number=number, inputs=_told({role: pointers or None}))

    def add(self, operation: str) -> None:
        """A step behind the one that is looked at, else at the end."""
        at = self.chosen + 1 if isinstance(self.chosen, int) else len(self.recipe.steps) + 1
        self.edit("add-step", step=operation, at=at)
        if len(self.recipe.steps) >= at and find_operation(self.recipe.steps[at - 1].operation).name == operation:
            self.choose(at)

    # before it starts

    def _check_soon(self) -> None:
        self._soon.start()
        self.run.moved.emit()  # until then nothing can be run

    def _check(self) -> None:
        if not self.is_open or self.session.closed:
            return
        recipe, choices, study = self.recipe, self.choices, self.study
        if not recipe.steps:
            self.plan = None
            self.planned.emit()
            return

        def work(progress):
            return plan_of(study, recipe, None, choices.use, choices.left_out, choices.waived, choices.workers)

        def done(plan: Plan) -> None:
            if self._checking is job:
                self._checking, self.plan = None, plan
                self.planned.emit()

        def failed(error: BaseException) -> None:
            if self._checking is job:
                self._checking, self.plan = None, None
                self.session.trouble.emit(str(error))
                self.planned.emit()

        if self._checking is not None:
            self._checking.let_go()
        job = self.session.work.start("Checking the recipe", work, done, failed, "checks", loud=False)
        self._checking = job

    @property
    def checked(self) -> bool:
        """Whether what the checks say holds for the recipe and the choices of now."""
        return self._checking is None and not self._soon.isActive()

    @property
    def settled(self) -> bool:
        """Whether nothing is still to be checked or shown."""
        return self.checked and self.run.settled

    def leave_out(self, unit: str, why: str) -> None:
        """Leave somebody out of the run."""
        self.choose_for(left_out=self.choices.left_out | {unit: why})

    def use(self, unit: str, slot: str, item: int) -> None:
        """Put a thing into a slot of somebody."""
        self.choose_for(use=using(self.choices.use, unit, slot, item))

    def expect(self, **numbers: Any) -> None:
        """Expect other numbers; those that are not named stay."""
        self.edit("expect", **(asdict(self.recipe.expected) | numbers))

    def open_standard(self) -> None:
        """Take the standard space of the program into the study."""
        self.session.run("open-pack", {})

    def waive(self, notices: list[PlanNotice], reason: str) -> None:
        """Write down why notices do not matter."""
        self.choose_for(waived=self.choices.waived | {n.key: reason for n in notices})

    def bring_back(self, unit: str) -> None:
        """Take somebody in again who was left out."""
        self.choose_for(left_out={k: v for k, v in self.choices.left_out.items() if k != unit})

    def choose_for(self, **changed: Any) -> None:
        """Choose something for the run; the study remembers it."""
        self.choices = replace(self.choices, **changed)
        if not self.study.read_only:
            told = asdict(self.choices)
            self.session.guarded(lambda: self.study.catalogue.remember(f"{CHOICES}: {self.key}", told))
        self._check_soon()

    # the run

    def start(self, only: list[Unit] | None = None) -> None:
        """Run it on everybody who is ready, or on some."""
        plan, choices = self.plan, self.choices
        if plan is None or self.run.running or not self.checked:
            return
        units = plan.runs if only is None else only
        recipe = self.recipe

        def order():
            recipe.require_allowed(writing=False, deleting=False)
            noticed = {n.key: (n.unit, n.sentence, choices.waived.get(n.key, "")) for n in plan.notices}
            made = order_of(
                self.study, recipe, name=self.name, version=self.version, key=self.key, noticed=noticed,
                passed=plan.passed, use=choices.use, left_out=choices.left_out,
            )  # fmt: skip
            return replace(made, units=tuple((u.key, u.subject, u.name) for u in units))

        made = self.session.guarded(order)
        if made is not None:
            self._go(lambda: begin(self.study.folder, made))

    def try_slice(self, seen: int, place, done) -> None:
        """Try the steps on the slice of an image that is in view; `done` gets what came of each, with a picture."""
        plan, study = self.plan, self.study
        units = plan.units if plan is not None else ()
        unit = next((u for u in units if any(o.record.id == seen for o in u.filled.values())), None)
        if plan is None or unit is None:
            self.session.trouble.emit("What is in view is none of what this recipe works on: show one of its images.")
            return
        recipe, who = plan.recipe, unit

        def work(progress):
            tried = tried_on_slice(study, recipe, who, seen, place, progress.part(0.0, 0.7))
            return [(one, None if one.image is None else picture_of(one.image, one.labels)) for one in tried]

        self.session.work.start("Trying the recipe on this slice", work, done)

    def resume(self, only: list[str] | None = None) -> None:
        """Go on with its last run, or do some again."""
        book = self.run.book
        if book is not None and not self.run.running:
            self._go(lambda: book, only)

    def _go(self, opened: Callable[[], RunBook], only: list[str] | None = None) -> None:
        self.run.go(f"Recipe “{self.name}”", self.choices, opened, only)


def _told(given: dict[str, Any]) -> str:
    """Names and values as the operations on recipes take them."""
    text = yaml.safe_dump(given, default_flow_style=True, allow_unicode=True, width=1 << 20, sort_keys=False)
    return text.strip().removeprefix("{").removesuffix("}")
