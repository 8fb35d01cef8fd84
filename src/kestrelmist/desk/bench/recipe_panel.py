"""The step or slot of a recipe that is looked at, on the Bench: its settings with where each comes from, what goes into
it."""

from __future__ import annotations

from functools import partial
from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QApplication,
    QCheckBox,
    QComboBox,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from ...core.errors import Trouble
from ...core.left_out import Found
from ...core.operation import Operation, find_operation
from ...core.parameter import Parameter
from ...study.recipes.plan_notice import Looked
from ...study.recipes.recipe import Recipe, RecipeStep
from ...study.used import shown
from ..models.desk_model import Desk
from ..widgets.plain_text import plain_tip
from .form_rows import Folded, Rows
from .recipe_notices import RecipeNotices
from .rows import Wrapped, section, soft, title

Origin = tuple[int, int, RecipeStep]
"""The recipe, the number and the step that a field was made for."""


class RecipePanel(QWidget):
    """In place of a stage's page while a recipe is open."""

    def __init__(self, desk: Desk):
        super().__init__()
        self.desk, self.model = desk, desk.recipes
        self.fields: dict[str, QWidget] = {}
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(0, 0, 0, 0)
        self.column.setSpacing(8)
        self.upper, self.notices = QWidget(), RecipeNotices(desk)
        self.column.addWidget(self.upper)
        self.column.addWidget(self.notices)
        self.model.changed.connect(self.fill)
        self.model.planned.connect(self._planned)
        self._told: Any = None

    def _planned(self) -> None:
        """What is found for the settings of a step may be known now."""
        if self.model.step is not None:
            self._told = None
            self.fill()

    # the step or slot

    def fill(self) -> None:
        """What is looked at now."""
        told = self.model.chosen, self.model.recipe, self.model.unit
        if not self.model.is_open or told == self._told:
            return
        self._told = told
        fresh = QWidget()
        column = QVBoxLayout(fresh)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(7)
        self.fields = {}
        if self.model.step is not None:
            self._step(column, self.model.step)
        elif self.model.slot is not None:
            self._slot(column)
        else:
            self._recipe(column)
        focused = QApplication.focusWidget()
        held = focused.accessibleName() if focused is not None and self.upper.isAncestorOf(focused) else ""
        self.column.replaceWidget(self.upper, fresh)
        self.upper.hide()
        self.upper.deleteLater()
        self.upper = fresh
        again = next((w for w in self.fields.values() if held and w.accessibleName() == held), None)
        if again is not None:  # who goes from field to field is where he was
            again.setFocus(Qt.FocusReason.OtherFocusReason)

    def _step(self, column: QVBoxLayout, step: RecipeStep) -> None:
        number, about = self.model.chosen, find_operation(step.operation)
        assert isinstance(number, int)
        column.addWidget(title(about.title))
        column.addWidget(soft(f"Step {number}, the same for all. {about.summary}"))
        origin = self.model.key, number, step
        found = self._found(about, step)
        rows, folded = Rows(), Folded()
        for p in about.inputs:
            field = self._input(origin, p)
            self.fields[p.name] = field
            rows.add(p.words, field, p.help)
        column.addWidget(rows)
        settings = Rows()
        for p in about.settings:
            if p.role in ("new", "secret", "mark", "names"):
                continue
            field, source = self._setting(origin, p, found.get(p.name))
            self.fields[p.name] = field
            both = QWidget()
            line = QVBoxLayout(both)
            line.setContentsMargins(0, 0, 0, 0)
            line.setSpacing(1)
            line.addWidget(field)
            whence = Wrapped(source)
            whence.setProperty("kind", "small")
            line.addWidget(whence)
            both.setFocusProxy(field)
            if p.rare and p.name not in step.settings:
                folded.add(p, both)
            else:
                settings.add(p.words, both, p.help)
        column.addWidget(settings)
        column.addWidget(folded)
        folded.setVisible(bool(folded.names))
        line = QHBoxLayout()
        on, away = QCheckBox("Switched on"), QPushButton("Take it out")
        on.setChecked(not step.off)
        on.toggled.connect(lambda now: self.model.edit("switch-step", number=number, on=now))
        away.setProperty("kind", "small")
        away.clicked.connect(lambda: self.model.edit("drop-step", number=number))
        line.addWidget(on)
        line.addStretch(1)
        for words, by in (("Earlier", -1), ("Later", 1)):
            button = QPushButton(words)
            button.setProperty("kind", "small")
            button.setEnabled(1 <= number + by <= len(self.model.recipe.steps))
            button.clicked.connect(partial(self._move, number, number + by))
            line.addWidget(button)
        column.addLayout(line)
        column.addWidget(away, 0, Qt.AlignmentFlag.AlignLeft)

    def _move(self, number: int, to: int) -> None:
        before = self.model.recipe
        self.model.edit("move-step", number=number, to=to)
        if self.model.recipe != before:
            self.model.choose(to)

    def _found(self, about: Operation, step: RecipeStep) -> dict[str, Found | str]:
        """What would be found for settings that are left out, for whom is chosen, or the first."""
        plan = self.model.plan
        if plan is None or step.off:
            return {}
        unit = next((u for u in plan.units if u.key == self.model.unit), plan.units[0])
        looked = Looked(self.model.study, self.model.recipe, (unit,))
        try:
            settings = about.checked(step.settings)
            given = looked.given(unit, about, step.inputs)
            known = about.lead is None or given.get(about.lead.name) is not None
            return about.found(given | settings) if known else {}
        except (Trouble, KeyError, IndexError):
            return {}

    def _setting(self, origin: Origin, p: Parameter, found: Found | str | None) -> tuple[QWidget, str]:
        """The field of a setting, and where its value comes from."""
        typed = origin[2].settings.get(p.name)
        if p.choices and not p.many:
            box = QComboBox()
            if p.left_out is not None or p.optional:
                box.addItem(p.left_out.words if p.left_out is not None else "not said", None)
            for choice in p.choices:
                box.addItem(str(choice), choice)
            value = typed if typed is not None else None if p.required else p.default
            box.setCurrentIndex(max(0, box.findData(p.checked(value) if value is not None else None)))
            box.activated.connect(lambda n: self._set(origin, p, box.itemData(n)))
            field: QWidget = box
        elif p.kind.type is bool and not p.optional:
            tick = QCheckBox()
            tick.setChecked(bool(p.default if typed is None else typed))
            tick.toggled.connect(lambda on: self._set(origin, p, on))
            field = tick
        else:
            line = QLineEdit("" if typed is None else self._words(typed, p))
            line.setPlaceholderText(self._usual(p, found))
            line.editingFinished.connect(lambda: self._typed(origin, p, line, typed))
            field = line
        field.setAccessibleName(p.words)
        field.setToolTip(plain_tip(p.help))
        if typed is not None:
            return field, "typed, the same for all"
        if isinstance(found, Found):
            return field, f"{shown(found.value, p)} {found.whence}, for each its own"
        if isinstance(found, str):
            return field, found.partition(": ")[0]
        return field, "usual" if not p.required else "needed"

    def _words(self, value: Any, p: Parameter) -> str:
        if isinstance(value, (list, tuple)):
            return ", ".join(f"{v:g}" if isinstance(v, float) else str(v) for v in value)
        text = f"{value:g}" if isinstance(value, float) else str(value)
        return f"{text} {p.unit}" if p.unit and p.unit != "value" else text

    def _usual(self, p: Parameter, found: Found | str | None) -> str:
        if isinstance(found, Found):
            return shown(found.value, p)
        if p.left_out is not None:
            return p.left_out.words
        return "" if p.required or p.default in (None, "") else self._words(p.default, p)

    def _typed(self, origin: Origin, p: Parameter, line: QLineEdit, was: Any) -> None:
        text = line.text().strip()
        if text == ("" if was is None else self._words(was, p)):
            return
        line.blockSignals(True)  # it goes with the panel, and would say it once more
        self._set(origin, p, text or None)

    def _set(self, origin: Origin, p: Parameter, value: Any) -> None:
        if not self.model.still(*origin):
            return
        try:
            kept = None if value is None else p.written(p.checked(value))
        except Trouble as trouble:
            self.desk.session.trouble.emit(str(trouble))
            self._told = None
            self.fill()
            return
        self.model.set_step(origin[1], {p.name: kept})

    def _input(self, origin: Origin, p: Parameter) -> QWidget:
        """What goes into a step: a slot, or what an earlier step gives."""
        _, number, step = origin
        given = step.inputs.get(p.name, [])
        if p.many:
            line = QLineEdit(", ".join(given))
            line.setAccessibleName(p.words)
            line.setPlaceholderText("none")
            line.editingFinished.connect(
                lambda: self._feed(origin, p, [t.strip() for t in line.text().split(",") if t.strip()], given)
            )
            return line
        box = QComboBox()
        box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        box.setMinimumContentsLength(12)
        if not p.required:
            box.addItem("none", "")
        for words, pointer in sources(self.model.recipe, number, p):
            box.addItem(words, pointer)
        now = given[0] if given else ""
        if box.findData(now) < 0:
            box.addItem(now or "as the study has it", now)
        box.setCurrentIndex(box.findData(now))
        box.activated.connect(lambda n: self._feed(origin, p, [d] if (d := box.itemData(n)) else [], given))
        return box

    def _feed(self, origin: Origin, p: Parameter, pointers: list[str], was: list[str]) -> None:
        if pointers != was and self.model.still(*origin):
            self.model.feed(origin[1], p.name, pointers)

    def _slot(self, column: QVBoxLayout) -> None:
        slot = self.model.slot
        assert slot is not None
        column.addWidget(title(slot.name))
        column.addWidget(soft("What comes in from each subject. * stands for anything in a name."))
        rows = Rows()
        texts = (
            ("Name", "name", slot.name),
            ("Named like", "pattern", slot.pattern),
            ("Always of", "of", slot.subject if slot.always else ""),
        )
        for words, key, value in texts:
            line = QLineEdit(value)
            line.setAccessibleName(words)
            line.editingFinished.connect(partial(self._slot_said, self.model.key, slot.name, key, line, value))
            self.fields[key] = line
            rows.add(words, line)
        each = QCheckBox("Do the steps for each that fits")
        each.setChecked(slot.each)
        each.toggled.connect(lambda on: self.model.edit("change-slot", slot=slot.name, each=on))
        self.fields["each"] = each
        column.addWidget(rows)
        column.addWidget(each)
        plan = self.model.plan
        if plan is not None:
            found = [(u.words, u.filled[slot.name]) for u in plan.units if slot.name in u.filled]
            for who, one in found[:8]:
                column.addWidget(soft(f"{who}: {one.record.name}, {one.whence}"))
            if len(found) > 8:
                column.addWidget(soft(f"and {len(found) - 8} more"))

    def _slot_said(self, of: int, slot: str, key: str, line: QLineEdit, was: str) -> None:
        if line.text() != was and of == self.model.key:
            line.blockSignals(True)
            self.model.edit("change-slot", slot=slot, **{key: line.text()})
            if key == "name":
                self.model.choose(line.text().strip())

    def _recipe(self, column: QVBoxLayout) -> None:
        recipe = self.model.recipe
        column.addWidget(title(self.model.name))
        column.addWidget(soft(recipe.note or "Choose a step or a slot to see what it is set to."))
        column.addWidget(section("What is expected"))
        rows = Rows()
        now = recipe.expected
        for words, key, value in (
            ("Volumes", "volumes", now.volumes),
            ("Between volumes", "repetition_time", now.repetition_time),
            ("Smallest structure", "structure", now.structure),
        ):
            unit = {"repetition_time": " s", "structure": " mm"}.get(key, "")
            line = QLineEdit("" if value is None else f"{value:g}{unit}")
            line.setPlaceholderText("not said")
            line.setAccessibleName(words)
            line.editingFinished.connect(partial(self._expected, self.model.key, key, line, line.text()))
            self.fields[key] = line
            rows.add(words, line)
        column.addWidget(rows)

    def _expected(self, of: int, key: str, line: QLineEdit, was: str) -> None:
        if line.text() == was or of != self.model.key:
            return
        line.blockSignals(True)
        now = self.model.recipe.expected
        given: dict[str, Any] = {k: getattr(now, k) for k in ("volumes", "repetition_time", "structure")}
        self.model.edit("expect", **given | {key: line.text().strip() or None})


def sources(recipe: Recipe, number: int, p: Parameter) -> list[tuple[str, str]]:
    """What may go into an input of a step: slots and results of earlier steps of its kind, in words and as pointers."""
    owner, kind = p.kind.of, p.thing_kind
    found = []
    for slot in recipe.slots:
        if slot.kind == kind:
            found.append((slot.name, f"${slot.name}"))
        elif owner and slot.kind == owner:
            names = {t.partition("#")[2] for s in recipe.steps for t in s.pointers if t.startswith(f"${slot.name}#")}
            found += [(f"{name} on {slot.name}", f"${slot.name}#{name}") for name in sorted(names or {"Labels"})]
    for n, step in enumerate(recipe.steps[: number - 1], 1):
        about = find_operation(step.operation)
        for result in about.results:
            if result.kind.name == kind:
                words = f"{n} {about.title}" + (f": {result.name}" if len(about.results) > 1 else "")
                found.append((words, f"${n}.{result.name}"))
            elif owner and result.kind.name == owner:
                names = {t.partition("#")[2] for s in recipe.steps for t in s.pointers
                         if t.startswith(f"${n}.{result.name}#")}  # fmt: skip
                found += [(f"{name} on {n} {about.title}", f"${n}.{result.name}#{name}") for name in sorted(names)]
    return found
