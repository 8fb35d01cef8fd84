"""The Gather stage: choose or drop scans, look over the plan of what is there, take it in; then facts, conversion,
identity."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFileDialog,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from ....core.errors import Cancelled, Trouble
from ....gather.plan import PlanLine, name_subjects, plan_folder
from ....gather.subject_rule import SubjectRule
from ....study.gathering import Taken, take_lines
from ...light_table.plan_table import COPY, SUBJECT
from ...widgets.plain_text import plain_tip
from ..page import PAGES, BenchContext, OperationPages, Page
from ..rows import page, row, section, soft, title

SOURCES = ("patient id", "patient name", "folder", "file name")
OWN = ("gather", "scan", "facts", "take-off", "delete")
"""Operations that have a place of their own: the plan, a line above, the menu of the Shelf."""


class GatherBench(OperationPages):
    """Folder in, images out. The plan itself lies over the Light table."""

    line_moved = Signal(object, str)

    def __init__(self, context: BenchContext):
        home, column = page()
        super().__init__(context.desk, home)
        desk = context.desk
        self.session, self.viewing = desk.session, desk.viewing
        self.plan, self.places = context.plan, []
        plan = self.plan
        self.choose, self.choose_file = QPushButton("Choose a folder…"), QPushButton("Files…")
        self.choose.clicked.connect(self._ask)
        self.choose_file.clicked.connect(self._ask_files)
        self.waiting = QPushButton("Look through the waiting scans")
        self.waiting.setProperty("kind", "link")
        place = desk.study.catalogue.recall("waiting folder")
        self.waiting.setVisible(bool(place) and Path(place).exists())
        self.waiting.setToolTip(plain_tip(str(place or "")))
        self.waiting.clicked.connect(lambda: self.scan(Path(str(place))))
        self.where = soft()
        column.addWidget(title("Gather"))
        column.addWidget(
            soft("Bring scans into the study. Drop folders or files anywhere in the window, or choose them.")
        )
        buttons = QHBoxLayout()
        buttons.addWidget(self.choose, 1)
        buttons.addWidget(self.choose_file)
        column.addLayout(buttons)
        column.addWidget(self.waiting)
        column.addWidget(self.where)
        column.addWidget(self._options())
        column.addWidget(self._tools())
        self.add_groups(context, "Gather", column)
        self.clear()
        plan.put_away.connect(self.clear)
        plan.model.changed.connect(self._count)
        self.line_moved.connect(plan.model.tell)
        desk.viewing.lead_changed.connect(self._follow)
        self._follow()

    def _options(self) -> QWidget:
        self.source, self.pattern = QComboBox(), QLineEdit("(.+)")
        self.source.addItems([s.capitalize() for s in SOURCES])
        self.source.setAccessibleName("Where subjects' names come from")
        self.pattern.setProperty("kind", "figures")
        self.pattern.setAccessibleName("Pattern for subjects' names")
        self.pattern.setToolTip("A regular expression; its first group is the subject. For example (HM-[0-9]+)")
        self.subject, self.copy = QLineEdit(), QCheckBox("Copy the files into the study")
        self.subject.setPlaceholderText("one for all, if you like")
        self.subject.setAccessibleName("Subject for all")
        self.beside = QCheckBox("Show them side by side")
        self.beside.setToolTip("The first four of what is taken in; otherwise the last one is shown")
        self.copy.setChecked(True)
        self.copy.setToolTip("Otherwise the files stay where they are, and must stay there")
        self.sequences = QComboBox()
        self.sequences.addItems(["times", "slices of a stack"])
        self.sequences.setAccessibleName("What the pictures of a sequence are")
        self.take, self.away = QPushButton("Take in"), QPushButton("Put away")
        self.take.setProperty("kind", "primary")
        self.options = QWidget()
        inner = QVBoxLayout(self.options)
        inner.setContentsMargins(0, 0, 0, 0)
        inner.setSpacing(7)
        inner.addWidget(section("Subjects"))
        inner.addLayout(row("From", self.source, width=62))
        inner.addLayout(row("Pattern", self.pattern, width=62))
        inner.addLayout(row("Name", self.subject, width=62))
        inner.addWidget(self.copy)
        inner.addWidget(self.beside)
        self.sequence_row = QWidget()
        self.sequence_row.setLayout(row("Pictures are", self.sequences, width=84))
        self.sequence_row.layout().setContentsMargins(0, 0, 0, 0)
        inner.addWidget(self.sequence_row)
        buttons = QHBoxLayout()
        buttons.addWidget(self.away)
        buttons.addWidget(self.take, 1)
        inner.addLayout(buttons)
        self.source.activated.connect(lambda _: self._guess())
        self.pattern.editingFinished.connect(self._guess)
        self.subject.editingFinished.connect(self._name_all)
        self.copy.toggled.connect(self._copy_all)
        self.sequences.activated.connect(lambda _: self._sequence_all(self.lines))
        self.take.clicked.connect(self.take_in)
        self.away.clicked.connect(self.clear)
        return self.options

    def _tools(self) -> QWidget:
        self.tools = QWidget()
        inner = QVBoxLayout(self.tools)
        inner.setContentsMargins(0, 0, 0, 0)
        inner.setSpacing(2)
        self.of_lead = section("Image in the lead pane")
        inner.addWidget(self.of_lead)
        self.facts = QPushButton("Facts")
        self.facts.setProperty("kind", "link")
        self.facts.setToolTip("Every element of its header, searchable")
        self.facts.clicked.connect(lambda: self.desk.run("facts", {}))
        inner.addWidget(self.facts)
        self.add_headings("Gather", inner, OWN)
        return self.tools

    def _follow(self) -> None:
        self.facts.setEnabled(self.viewing.record is not None)
        self.of_lead.setText(
            "No image in the lead pane" if self.viewing.record is None else f"With “{self.viewing.record.name}”"
        )

    # the plan

    @property
    def rule(self) -> SubjectRule:
        return SubjectRule(SOURCES[self.source.currentIndex()], self.pattern.text())

    @property
    def lines(self) -> list[PlanLine]:
        return self.plan.model.lines

    def clear(self) -> None:
        """Put the plan away."""
        self.plan.model.show([])
        self.options.hide()
        self.where.hide()
        self.tools.show()
        self.viewing.set_plan_shown(False)

    def _ask(self) -> None:
        name = QFileDialog.getExistingDirectory(
            self, "Choose a folder with scans", str(self.places[0] if self.places else Path.home())
        )
        if name:
            self.scan(Path(name))

    def _ask_files(self) -> None:
        names, _ = QFileDialog.getOpenFileNames(
            self, "Choose files", str(self.places[0].parent if self.places else Path.home())
        )
        if names:
            self.scan([Path(n) for n in names])

    def scan(self, places: Path | list[Path], done=None) -> None:
        """Look through folders and files in a worker and lay out the plan."""
        places = places if isinstance(places, list) else [places]
        self.clear()
        self.places = places
        name = places[0].name if len(places) == 1 else f"{len(places)} places"
        self.where.setText(f"Looking through “{name}” …")
        self.where.show()
        rule, known = self.rule, [r.subject for r in self.desk.study.records()]

        def look(progress):
            try:
                return plan_folder(places, rule, known, progress=progress)
            except Cancelled:
                return []

        def found(lines):
            if lines:
                self._lay_out(name, lines)
            else:  # cancelled: nothing is left behind
                self.clear()
            if done:
                done()

        def failed(error):
            self.clear()
            self.session.trouble.emit(str(error))

        self.session.work.start(f"Looking through {name}", look, found, failed)

    def _lay_out(self, name: str, lines: list[PlanLine]) -> None:
        images = sum(line.is_image for line in lines)
        others, trouble = len(lines) - images, sum(bool(line.problems or line.refused) for line in lines)
        holds = f"“{name}” holds {images} image{'s' if images != 1 else ''}"
        holds += f" and {others} other object{'s' if others != 1 else ''}" if others else ""
        self.where.setText(holds + (f"; look at {trouble} of them." if trouble else "."))
        for line in lines:
            line.copy = self.copy.isChecked()
        self.sequence_row.setVisible(any(line.kind == "sequence" for line in lines))
        self._sequence_all(lines)
        self.plan.show_plan(f"Plan for “{name}”", lines)
        self.where.show()
        self.options.show()
        self.tools.hide()
        self.viewing.set_plan_shown(True)
        if self.subject.text().strip():
            self._name_all()
        if lines and all(line.refused for line in lines):
            self.session.trouble.emit(lines[0].refused)

    def _count(self) -> None:
        count = sum(line.take for line in self.lines)
        self.take.setText(f"Take in {count} image{'s' if count != 1 else ''}" if count else "Nothing is ticked")
        self.take.setEnabled(count > 0)
        self.beside.setVisible(count > 1)

    def _guess(self) -> None:
        """Find the subjects anew by the pattern; what else was changed in the plan stays."""
        if not self.lines:
            return
        try:
            name_subjects(self.lines, self.rule, [r.subject for r in self.desk.study.records()])
        except Trouble as trouble:
            self.session.trouble.emit(str(trouble))
            return
        self._show_changed(SUBJECT)

    def _show_changed(self, column: int) -> None:
        model = self.plan.model
        model.dataChanged.emit(model.index(0, column), model.index(len(self.lines) - 1, column))

    def _name_all(self) -> None:
        name = self.subject.text().strip()
        if name and self.lines:
            for line in self.lines:
                line.subject = name
            self._show_changed(SUBJECT)

    def _copy_all(self, on: bool) -> None:
        for line in self.lines:
            line.copy = on
        if self.lines:
            self._show_changed(COPY)

    def _sequence_all(self, lines: list[PlanLine]) -> None:
        for line in lines:
            line.along = ("time", "slice")[self.sequences.currentIndex()]

    def take_in(self, done=None) -> None:
        """Take the ticked lines into the study, in a worker; cancel keeps what is finished."""
        study, lines, rule, folder = self.desk.study, self.lines, self.rule, self.places[0] if self.places else None
        try:
            study.catalogue.require_writable()
        except Trouble as trouble:
            self.session.trouble.emit(str(trouble))
            return
        for line in lines:
            if line.take:
                self.line_moved.emit(line, "waiting")
        self.take.setEnabled(False)

        def work(progress):
            return take_lines(study, lines, progress, self.line_moved.emit, folder, rule)

        def kept(taken: Taken):
            self._taken(taken)
            if done:
                done()

        count = sum(line.take for line in lines)
        self.session.work.start(f"Taking in {lines[0].name if count == 1 else f'{count} images'}", work, kept)

    def _taken(self, taken: Taken) -> None:
        for line in self.lines:
            line.take = False
        self._count()
        if taken.keys:
            self.session.took_in.emit(taken.keys)
            if self.beside.isChecked():
                self.desk.beside.show(taken.keys)
        if taken.ended or taken.refused or taken.known:
            self._show_rest(taken)
        elif taken.stopped:
            there = "1 image is" if len(taken.keys) == 1 else f"{len(taken.keys)} images are"
            self.session.said.emit(f"Stopped. {there} in the study, the rest was left.")
        else:
            self.clear()

    def _show_rest(self, taken: Taken) -> None:
        """Lay out what could not be taken in; what there was no room for stays ticked, so that going on is one
        press."""
        known = [(line, str(why)) for line, why in taken.known]
        lines = taken.refused + known
        reasons = [] if taken.whole else [f"{taken.ending}."]
        reasons += [reason for _, reason in known[:4]]
        reasons += [f"… and {len(known) - 4} more"] if len(known) > 4 else []
        self.session.trouble.emit("\n".join(reasons))
        for line, reason in lines:
            line.problems = [*line.problems, reason.rstrip(".")]
        for line in taken.left:
            line.take = True
        shown = {id(line) for line in (*taken.left, *(line for line, _ in lines))}
        self.plan.show_plan("Not taken in", [line for line in self.lines if id(line) in shown])
        self._count()


PAGES.add("Gather", Page("Gather", GatherBench))
