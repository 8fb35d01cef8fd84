"""The page of a recipe over the panes: which one, what comes in, the steps, on whom, and its run."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QFileDialog,
    QFrame,
    QHBoxLayout,
    QInputDialog,
    QPushButton,
    QScrollArea,
    QSpinBox,
    QSplitter,
    QTableView,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from ...core.operation import all_operations
from ...study.recipes import book as states
from ...study.recipes.plan import LACKING, READY, TO_LOOK_AT
from ..models.recipe_model import RecipeModel
from ..models.viewing import Viewing
from ..theme.theme import icon
from ..widgets.plain_text import Words, plain_tip
from .flow import Flow
from .tried import TriedSheet
from .who import StateDelegate, WhoModel, minutes

ROW = 26
WIDTHS, STEP, WIDEST = (96, 90, 78, 184), 74, 180
"""Pixels of the columns, and of names of subjects and runs where these are long."""
NEW, LOGBOOK, FILE = "Begin a new recipe…", "Make one of the logbook…", "Take one from a file…"


def label(text: str, kind: str) -> Words:
    made = Words(text)
    made.setProperty("kind", kind)
    return made


class RecipePage(QWidget):
    """Everything of one recipe. What a card is set to stands on the Bench."""

    def __init__(self, model: RecipeModel, viewing: Viewing):
        super().__init__()
        self.viewing = viewing
        self.setObjectName("panel")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.model = model
        self.which, self.shut = QComboBox(), QToolButton()
        self.which.setAccessibleName("Recipe")
        self.which.setMinimumContentsLength(30)
        self.which.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.shut.setToolTip("Put the recipe away")
        self.shut.setAccessibleName("Put the recipe away")
        self.told = label("", "soft")
        self.slots, self.steps = Flow(model, False), Flow(model, True)
        self.who, self.counts, self.where = WhoModel(model), label("", "soft"), label("", "soft")
        self.view = QTableView()
        self._make_view()
        self.run, self.attempt, self.pause = QPushButton("Run"), QPushButton("Try on one"), QPushButton("Pause")
        self.resume, self.report = QPushButton("Resume"), QPushButton("Report…")
        self.on_slice = QPushButton("on this slice")
        self.tried: TriedSheet | None = None
        self.elsewhere, self.at_once = QPushButton("Run elsewhere…"), QSpinBox()
        self.again, self.verdicts = QPushButton("Do it again"), QComboBox()
        self._dress_buttons()
        self._lay()
        self._connect()
        self.dress()

    def _make_view(self) -> None:
        view = self.view
        view.setModel(self.who)
        view.setItemDelegate(StateDelegate(view))
        view.setAccessibleName("On whom the recipe is done")
        view.verticalHeader().hide()
        view.verticalHeader().setDefaultSectionSize(ROW)
        view.setShowGrid(False)
        view.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        view.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        view.setHorizontalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        view.horizontalHeader().setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        view.selectionModel().currentRowChanged.connect(self._row)

    def _dress_buttons(self) -> None:
        self.run.setProperty("kind", "primary")
        for button in (self.elsewhere, self.report):
            button.setProperty("kind", "link")
        self.at_once.setRange(0, 64)
        self.at_once.setAccessibleName("How many at a time")
        self.at_once.setToolTip(plain_tip("How many are done at a time; 0 does one after another in this window"))
        self.verdicts.setAccessibleName("What the chosen one is")
        self.verdicts.addItems(["judge…", *states.VERDICTS])
        self.on_slice.setToolTip(plain_tip("Try the steps on the slice in view; nothing of it is kept"))
        self.attempt.setToolTip(plain_tip("Do all steps on whom is chosen, or on the first, before the others"))

    def _lay(self) -> None:
        inside = QWidget()
        inside.setProperty("kind", "scrolled")
        column = QVBoxLayout(inside)
        column.setContentsMargins(0, 0, 8, 0)
        column.setSpacing(6)
        top = QHBoxLayout()
        top.addWidget(self.which)
        top.addWidget(self.told, 1)
        top.addWidget(self.shut)
        for head, flow in (("Comes in", self.slots), ("Steps", self.steps)):
            column.addWidget(label(head, "section"))
            column.addWidget(flow)
        over = QHBoxLayout()
        over.addWidget(label("Who", "section"))
        over.addWidget(self.where, 1)
        over.addWidget(self.counts)
        column.addStretch(1)
        scroll = QScrollArea(widgetResizable=True)
        scroll.setFrameShape(QFrame.Shape.NoFrame)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(inside)
        foot, second = QHBoxLayout(), QHBoxLayout()
        for widget in (self.run, self.attempt, self.on_slice, self.pause, self.resume):
            foot.addWidget(widget)
        foot.addStretch(1)
        foot.addWidget(self.report)
        second.addWidget(label("Chosen:", "soft"))
        self.chosen_words = label("nobody", "soft")
        second.addWidget(self.chosen_words)
        for widget in (self.again, self.verdicts):
            second.addWidget(widget)
        second.addStretch(1)
        second.addWidget(label("at once", "soft"))
        second.addWidget(self.at_once)
        second.addWidget(self.elsewhere)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(14, 8, 10, 8)
        whole.setSpacing(6)
        whole.addLayout(top)
        below = QWidget()
        under = QVBoxLayout(below)
        under.setContentsMargins(0, 0, 0, 0)
        under.setSpacing(6)
        under.addLayout(over)
        under.addWidget(self.view, 1)
        self.halves = QSplitter(Qt.Orientation.Vertical)
        self.halves.setChildrenCollapsible(False)
        self.halves.addWidget(scroll)
        self.halves.addWidget(below)
        self.halves.setStretchFactor(0, 3)
        self.halves.setStretchFactor(1, 2)
        whole.addWidget(self.halves, 1)
        whole.addLayout(second)
        whole.addLayout(foot)

    def _connect(self) -> None:
        model = self.model
        self.which.activated.connect(lambda n: self._choose(self.which.itemText(n)))
        self.shut.clicked.connect(model.close)
        self.steps.add.connect(self.ask_for_step)
        self.slots.add.connect(self.ask_for_slot)
        self.run.clicked.connect(self._start)
        self.attempt.clicked.connect(self._try)
        self.on_slice.clicked.connect(self._try_slice)
        self.pause.clicked.connect(model.run.pause)
        self.resume.clicked.connect(self._resume)
        self.again.clicked.connect(lambda: model.resume([model.unit]) if model.unit else None)
        self.verdicts.activated.connect(self._judge)
        self.report.clicked.connect(self.ask_and_report)
        self.elsewhere.clicked.connect(self.ask_where)
        self.at_once.valueChanged.connect(lambda n: model.choose_for(workers=n))
        for signal in (model.opened, model.changed, model.planned, model.run.moved):
            signal.connect(self.follow)
        model.opened.connect(self._fill_which)
        model.session.shelf_changed.connect(self._fill_which)

    def dress(self) -> None:
        self.shut.setIcon(icon("x", 16))

    # which recipe

    def _fill_which(self) -> None:
        if not self.model.is_open:
            return
        names = self.model.names()
        self.which.clear()
        self.which.addItems([*names, NEW, LOGBOOK, FILE])
        self.which.setCurrentIndex(max(0, self.which.findText(self.model.name)))

    def _choose(self, text: str) -> None:
        model = self.model
        if text == FILE:
            name, _ = QFileDialog.getOpenFileName(self, "Take a recipe", str(Path.home()), "Recipe (*.yaml *.yml)")
            if name:
                model.take(name)
        elif text in (NEW, LOGBOOK):
            name, said = QInputDialog.getText(self, text.rstrip("…"), "Its name")
            if said and name.strip():
                model.begin(name.strip(), None if text == NEW else "")
        elif text != model.name:
            model.open(text)
            return
        self._fill_which()

    # what there is

    def follow(self) -> None:
        """Everything as it is now."""
        model, plan, book = self.model, self.model.plan, self.model.run.book
        if not model.is_open:
            return
        count = len(model.recipe.steps)
        self.told.setText(f"version {model.version} · {count} {'step' if count == 1 else 'steps'}")
        self.told.setToolTip(plain_tip(model.recipe.note))
        counts = plan.counts if plan is not None else {}
        self.counts.setText(" · ".join(f"{state} {n}" for state, n in counts.items() if n))
        who = len({r[1] for r in self.who.rows})
        runs = len(self.who.rows)
        self.where.setText(f"{who} {'subject' if who == 1 else 'subjects'}" + (f", {runs} runs" if runs != who else ""))
        running, checked = model.run.running, model.checked
        ready = counts.get(READY, 0) + counts.get(TO_LOOK_AT, 0)
        self.run.setText(f"Run {ready}" if ready else "Run")
        self.run.setEnabled(bool(ready) and not running and checked)
        unit = next((u for u in plan.units if u.key == model.unit), None) if plan is not None else None
        one = unit or (plan.runs[0] if plan is not None and plan.runs else None)
        self.attempt.setText(f"Try on {one.words}" if one is not None else "Try on one")
        able = one is not None and plan is not None and plan.state(one) != LACKING
        self.attempt.setEnabled(able and not running and checked)
        self.on_slice.setEnabled(plan is not None and not running and checked)
        self.pause.setText("Go on" if model.run.paused else "Pause")
        self.pause.setEnabled(running)
        left = len(book.unfinished) if book is not None else 0
        self.resume.setText(f"Resume {left}" if left and not running else "Resume")
        self.resume.setEnabled(bool(left) and not running)
        self.report.setEnabled(book is not None and not running)
        here = book is not None and model.unit in book.cells
        self.again.setEnabled(
            bool(here and not running and book is not None and book.state(model.unit) not in states.OVER)
        )
        self.verdicts.setEnabled(here)
        said = book.verdicts.get(model.unit, {}).get("verdict", "") if book is not None else ""
        self.verdicts.setCurrentIndex(max(0, self.verdicts.findText(said)) if said else 0)
        words = next((f"{r[1]} {r[2]}".strip() for r in self.who.rows if r[0] == model.unit), "nobody")
        wrong = book.said(model.unit) if book is not None and here else ""
        self.chosen_words.setText(f"{words}{f': {wrong}' if wrong else ''}"[:90])
        self.chosen_words.setToolTip(plain_tip(wrong))
        if self.at_once.value() != model.choices.workers:
            self.at_once.blockSignals(True)
            self.at_once.setValue(model.choices.workers)
            self.at_once.blockSignals(False)
        self.at_once.setEnabled(not model.choices.cluster)
        self.elsewhere.setText(f"on {model.choices.cluster}" if model.choices.cluster else "Run elsewhere…")
        if plan is not None and plan.seconds is not None:
            at_once = max(1, model.choices.workers)
            took = f"about {minutes(plan.seconds / at_once)} · {plan.bytes_needed / 1e9:.1f} GB"
            self.run.setToolTip(plain_tip(f"{took} to be written, {plan.bytes_free / 1e9:.0f} GB free"))
            self.where.setText(f"{self.where.text()} · {took}")
        self._widths()

    def _widths(self) -> None:
        """Who, how far and what is left first; a narrow column a step, which scroll where they are many."""
        measure = self.view.fontMetrics().horizontalAdvance
        for n in range(self.who.columnCount()):
            width = WIDTHS[n] if n < len(WIDTHS) else STEP
            if n < 2:
                longest = max((row[1 + n] for row in self.who.rows), key=len, default="")
                width = min(WIDEST, max(width, measure(longest) + 20))
            self.view.setColumnWidth(n, width)
        self.view.setColumnHidden(1, not any(row[2] for row in self.who.rows))

    # what is done

    def _row(self, now, before) -> None:
        if now.isValid():
            self.model.choose_unit(self.who.key(now.row()))

    def _start(self) -> None:
        self.model.start()

    def _resume(self) -> None:
        self.model.resume()

    def _try(self) -> None:
        plan, model = self.model.plan, self.model
        if plan is not None:
            one = next((u for u in plan.units if u.key == model.unit), None) or (plan.runs[0] if plan.runs else None)
            model.start([one] if one is not None else [])

    def _try_slice(self) -> None:
        viewing = self.viewing
        if viewing.record is None:
            return

        def show(tried) -> None:
            self.tried = TriedSheet(self.window(), tried)
            self.tried.open()

        self.model.try_slice(viewing.record.id, np.array(viewing.crosshair), show)

    def _judge(self, n: int) -> None:
        if n > 0 and self.model.unit:
            self.model.run.judge(self.model.unit, self.verdicts.itemText(n))

    def ask_for_step(self) -> None:
        """Which operation comes next."""
        able = [o for o in all_operations().values() if o.repeats and not o.final]
        words = {f"{o.title}  ({o.stage})": o.name for o in able}
        name, said = QInputDialog.getItem(self, "Add a step", "What is done", list(words), 0, True)
        if said and name:
            self.model.add(words.get(name, name.strip()))

    def ask_for_slot(self) -> None:
        """What else comes in."""
        name, said = QInputDialog.getText(self, "Add a slot", "What it is for, as “Run” or “Anatomy”")
        if said and name.strip():
            self.model.edit("change-slot", slot=name.strip(), pattern="*")
            self.model.choose(name.strip())

    def ask_where(self) -> None:
        """On which cluster it is to run; none for this machine."""
        text, said = QInputDialog.getText(
            self, "Run elsewhere", "Address of a Dask scheduler, as tcp://10.0.0.5:8786; empty for this machine",
            text=self.model.choices.cluster,
        )  # fmt: skip
        if said:
            self.model.choose_for(cluster=text.strip())
            self.follow()

    def ask_and_report(self) -> None:
        """Where the report of the last run goes."""
        book = self.model.run.book
        if book is None:
            return
        start = str(Path.home() / f"{self.model.name}, run {book.number}.html")
        name, _ = QFileDialog.getSaveFileName(self, "Report of the run", start, "Report (*.html *.pdf)")
        if name:
            self.write_report(Path(name))

    def write_report(self, path: Path) -> None:
        book = self.model.run.book
        if book is None:
            return
        study, session = self.model.study, self.model.session

        def work(progress):
            return study.run("run-report", progress, to=path, run=book.number, replace_file=True)

        session.work.start("Report of the run", work, lambda _: session.said.emit(f"The report is in {path}."))
