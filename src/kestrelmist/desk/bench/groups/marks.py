"""Marks on the Bench: tools that draw them, which ones are in hand, and what is known of the chosen one."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QSignalBlocker, QSize, Qt
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QMenu,
    QPushButton,
    QToolButton,
)

from ....core.geometry.mark import Mark
from ....core.geometry.measured import is_fine, measured
from ....core.geometry.shape import shape_named
from ....core.geometry.shapes.line import SNAPPED
from ....core.scale import Scale
from ....measure.mark_looks import AS_SURE, SUITED
from ....scene.showing import shown_unit
from ...theme.theme import icon
from ...tool import TOOLS, tool_named
from ...widgets.number_field import NumberField, number
from ...widgets.plain_text import Words, ask_text, plain_tip
from ..page import GROUPS, BenchContext, Group
from ..rows import Shaded, section, soft
from .mark_look import MarkLook

MOST_KINDS = 6
"""Classes whose marks are counted on the Bench."""
ACROSS = 7
"""Tools in a row."""
STAGES = {"Align": 40, "Outline": 70, "Measure": 10}
"""Stages with the group, and where it stands there."""


class MarksGroup(Shaded):
    """Tools in a row, then the marks in hand, then the chosen mark."""

    def __init__(self, context: BenchContext):
        super().__init__()
        self.desk, self.hand, self.marks = context.desk, context.desk.hand, context.desk.marks
        self.buttons: dict[str, QToolButton] = {}
        self.hint, self.said = soft(), soft()
        self.column.addWidget(section("Marks"))
        rows = QGridLayout()
        rows.setSpacing(4)
        for n, tool in enumerate(t for t in TOOLS if t.name.startswith("mark-")):
            button = QToolButton(checkable=True)
            button.setProperty("kind", "tool")
            button.setIconSize(QSize(18, 18))
            button.setToolTip(plain_tip(f"{tool.title}: {tool.hint}"))
            button.setAccessibleName(tool.title)
            button.clicked.connect(lambda _=False, name=tool.name: self._take(name))
            rows.addWidget(button, n // ACROSS, n % ACROSS)
            self.buttons[tool.name] = button
        rows.setColumnStretch(ACROSS, 1)
        self.listing = QPushButton("List")
        self.listing.setProperty("kind", "small")
        self.listing.setToolTip(plain_tip("Show the marks as a list in the Drawer"))
        self.listing.clicked.connect(lambda: context.open_drawer("marks"))
        self.count = QPushButton("Count")
        self.count.setProperty("kind", "small")
        self.count.setToolTip(plain_tip("How many there are of each class, as a table"))
        self.count.clicked.connect(self._count)
        self.numbers = QCheckBox("Numbers")
        self.numbers.setToolTip(plain_tip("Whether what marks measure stands beside them"))
        self.numbers.setChecked(True)
        self.numbers.toggled.connect(self._show_numbers)
        self.column.addLayout(rows)
        self.column.addWidget(self.hint)
        self.which, self.more, self.menu = QComboBox(), QToolButton(), QMenu(self)
        self.which.setAccessibleName("Marks in hand")
        self.which.activated.connect(lambda n: self.marks.take_in_hand(self.which.itemData(n)))
        self.more.setAccessibleName("More about sets of marks")
        self.more.setToolTip("Make, copy, rename or take off sets of marks")
        self.more.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.more.setMenu(self.menu)
        self.menu.aboutToShow.connect(self.fill_menu)
        line = QHBoxLayout()
        line.setSpacing(4)
        line.addWidget(self.which, 1)
        line.addWidget(self.more)
        self.column.addLayout(line)
        under = QHBoxLayout()
        under.setSpacing(6)
        under.addWidget(self.numbers)
        under.addStretch(1)
        under.addWidget(self.count)
        under.addWidget(self.listing)
        self.column.addWidget(self.said)
        self.column.addLayout(under)
        self.card = self._card()
        self.column.addWidget(self.card)
        self.hand.tool_changed.connect(self._follow_tool)
        self.marks.listed.connect(self._follow_list)
        self.marks.changed.connect(self._follow_mark)
        for signal in (self.marks.class_chosen, self.marks.listed):
            signal.connect(self._follow_tool)
        self.dress()
        self._follow_tool()
        self._follow_list()

    def _card(self) -> Shaded:
        """Fields of the chosen mark."""
        card = Shaded()
        self.name = QLineEdit()
        self.name.setAccessibleName("Name of the mark")
        self.name.setPlaceholderText("Name")
        self.name.editingFinished.connect(self._rename)
        self.text = QLineEdit()
        self.text.setAccessibleName("Words of the mark")
        self.text.editingFinished.connect(self._say)
        self.text_words = Words("Words")
        self.cls = number(0, 65535, 0, "", "Class of the mark", whole=True)
        self.cls.valueChanged.connect(lambda v: self._change("Class of", cls=int(v)))
        self.look = MarkLook()
        self.look.wanted.connect(lambda title, facts: self._change(title, **facts))
        self.look.for_all.connect(self._for_all)
        self.sizes = {name: number(0, 1e9, 3, "mm", f"{name.capitalize()} of the mark", follows=True) for name in SIZES}
        self.size_words = {name: Words(name.capitalize()) for name in SIZES}
        for name, field in self.sizes.items():
            field.valueChanged.connect(lambda v, name=name: self._resize(name, v))
        self.places = [number(-1e9, 1e9, 3, "mm", f"Middle of the mark, {axis}", follows=True) for axis in "xyz"]
        for n, field in enumerate(self.places):
            field.valueChanged.connect(lambda v, n=n: self._move(n, v))
        self.delete = QPushButton("Delete")
        self.delete.setProperty("kind", "small")
        self.delete.clicked.connect(self.marks.delete_chosen)
        grid = QGridLayout()
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(4)
        rows = [(self.text_words, self.text), (Words("Name"), self.name), (Words("Class"), self.cls)]
        rows += [(self.size_words[name], self.sizes[name]) for name in SIZES]
        rows += [(Words(f"Middle {axis}"), field) for axis, field in zip("xyz", self.places)]
        for n, (words, field) in enumerate(rows):
            words.setProperty("kind", "soft")
            grid.addWidget(words, n, 0)
            grid.addWidget(field, n, 1)
        grid.setColumnStretch(1, 1)
        self.title = section("")
        top = QHBoxLayout()
        top.addWidget(self.title, 1)
        top.addWidget(self.delete)
        self.measures = Words()
        self.measures.setWordWrap(True)
        self.measures.setAccessibleName("What the mark measures")
        self.scale = soft()
        self.snap = QPushButton("Snap to edges")
        self.snap.setProperty("kind", "small")
        self.snap.setToolTip(plain_tip("Bring both ends to the nearest edges, to a part of a pixel"))
        self.snap.clicked.connect(self._snap)
        card.column.addLayout(top)
        card.column.addWidget(self.measures)
        card.column.addWidget(self.scale)
        card.column.addWidget(self.snap, 0, Qt.AlignmentFlag.AlignLeft)
        card.column.addLayout(grid)
        card.column.addWidget(self.look)
        return card

    def dress(self) -> None:
        for name, button in self.buttons.items():
            button.setIcon(icon(tool_named(name).icon, 18))
        self.more.setIcon(icon("layers-2", 16))

    def _take(self, name: str) -> None:
        self.hand.set_tool(name if self.hand.tool != name else "point")
        self._follow_tool()

    def _follow_tool(self) -> None:
        for name, button in self.buttons.items():
            button.setChecked(name == self.hand.tool)
        tool = tool_named(self.hand.tool)
        self.hint.setVisible(tool.name in self.buttons)
        kind = f" Drawn as {self.marks.class_name(self.marks.next_class)}; keys 1 to 9 choose a class."
        self.hint.setText(f"{tool.hint}{kind}")

    def _follow_list(self) -> None:
        there = self.marks.there
        with QSignalBlocker(self.which):
            self.which.clear()
            for record in there:
                self.which.addItem(record.name, record.id)
            self.which.setCurrentIndex(self.which.findData(self.marks.key))
            if not there:
                self.which.addItem("No marks yet", None)
        self.which.setEnabled(len(there) > 1)
        self.more.setEnabled(self.desk.viewing.record is not None)
        count = len(self.marks.marks) if self.marks.marks is not None else 0
        self.said.setText(self._counted() if count else "")
        self.said.setVisible(bool(count))
        self.count.setEnabled(bool(count))
        self._follow_mark()

    def _counted(self) -> str:
        """How many marks there are, by class where there are several."""
        drawn = Counter(mark.cls for mark in self.marks.marks or ())
        count = drawn.total()
        whole = f"{count} mark{'' if count == 1 else 's'}"
        if not any(drawn):
            return f"{whole}."
        kinds = [f"{n} {self.marks.class_name(number)}" for number, n in sorted(drawn.items())]
        more = f" and {len(kinds) - MOST_KINDS} more" if len(kinds) > MOST_KINDS else ""
        return f"{whole}: {', '.join(kinds[:MOST_KINDS])}{more}."

    # sets of marks

    def fill_menu(self) -> None:
        """What can be done now."""
        self.menu.clear()
        current = next((r for r in self.marks.there if r.id == self.marks.key), None)
        self.menu.addAction("New set of marks…", lambda: self._ask("New set of marks", "Marks", self.make))
        if current is None:
            return

        def copy(name: str) -> None:
            self.make(name, current.id)

        def rename(name: str) -> None:
            self.desk.session.run("rename", {"thing": current.id, "name": name})

        shown = current.name.replace("&", "&&")
        self.menu.addAction(f"Copy “{shown}”…", lambda: self._ask("Copy the marks", f"{current.name}, copy", copy))
        self.menu.addAction("Rename…", lambda: self._ask("Rename the marks", current.name, rename))
        self.menu.addAction("Take off", lambda: self.desk.session.run("take-off", {"thing": current.id}))

    def _ask(self, title: str, text: str, then: Callable[[str], None]) -> None:
        name = ask_text(self, title, "Name:", text)
        if name is not None:
            then(name)

    def make(self, name: str, copy: int | None = None) -> None:
        """Another set of marks on the lead image, taken in hand."""
        record = self.desk.viewing.record
        if record is not None:
            given = {"image": record.id, "name": name} | ({"copy": copy} if copy is not None else {})
            (self.desk.session.run_now if copy is None else self.desk.session.run)("new-marks", given)

    # the chosen mark

    @property
    def mark(self) -> Mark | None:
        marks = self.marks
        if marks.live is not None:
            return marks.live
        return marks.marks[marks.chosen] if marks.marks is not None and marks.chosen is not None else None

    @property
    def _unit(self) -> tuple[str, float]:
        """The unit that lengths are shown in, and how many of it the world's has."""
        record = self.desk.viewing.record
        return shown_unit(record.grid) if record is not None else ("mm", 1.0)

    def _show(self, field: NumberField, value: float) -> None:
        unit, factor = self._unit
        with QSignalBlocker(field):
            field.setSuffix(f" {unit}")
            field.setValue(value * factor)

    def _follow_mark(self) -> None:
        mark = self.mark
        self.card.setVisible(mark is not None)
        if mark is None:
            return
        shape = shape_named(mark.shape)
        self.title.setText(f"{shape.title}{f' {mark.id}' if mark.id else ''}")
        if not self.name.hasFocus() or self.name.text() == "":
            with QSignalBlocker(self.name):
                self.name.setText(mark.name)
        self.delete.setEnabled(bool(mark.id))
        with QSignalBlocker(self.cls):
            self.cls.setValue(mark.cls)
        self.look.show_mark(mark, self.marks.colour_of(mark), shape.measured is not None or shape.bar)
        self._tell(mark)
        of_text = mark.shape == "text" or shape.bar
        self.text.setVisible(of_text)
        self.text_words.setVisible(of_text)
        if of_text and not self.text.hasFocus():
            with QSignalBlocker(self.text):
                self.text.setText(mark.text)
        sizes = shape.sizes(mark.array)
        for name, field in self.sizes.items():
            there = name in sizes
            field.setVisible(there)
            self.size_words[name].setVisible(there)
            if there:
                self._show(field, sizes[name])
        for value, field in zip(mark.middle, self.places):
            self._show(field, float(value))

    def _tell(self, mark: Mark) -> None:
        """What it measures, and where the scale is from."""
        fact, placed = self.marks.sure
        scale = Scale.from_fact(fact) or Scale()
        found = [one.told(mark, is_fine(placed)) for one in measured(mark, scale, placed)]
        self.measures.setText("\n".join(f"{one.name.capitalize()}  {one.words}" for one in found))
        self.measures.setVisible(bool(found))
        self.scale.setText(f"Scale {scale.words}." if scale.unit != "px" else f"{scale.words.capitalize()}.")
        self.scale.setVisible(bool(found))
        self.snap.setVisible(mark.shape in SNAPPED and bool(mark.id))

    def _show_numbers(self, shown: bool) -> None:
        self.marks.measured = shown
        self.marks.changed.emit()

    def _snap(self) -> None:
        mark = self.mark
        if mark is not None and self.marks.key is not None:
            self.desk.run("snap-marks", {"marks": self.marks.key, "which": str(mark.id)})

    def _say(self) -> None:
        mark = self.mark
        bar = mark is not None and shape_named(mark.shape).bar  # without words it says its length
        said = self.text.text().strip()
        if mark is not None and mark.id and (said or bar) and said != mark.text:
            self._change("Write", text=said)

    def _count(self) -> None:
        """All marks by class, with the names of their class table."""
        marks = self.marks.marks
        given = {"marks": self.marks.key, "shape": "all"}
        if marks is not None and self.marks.has_classes:
            given["classes"] = marks.classes
        self.desk.run("count-marks", given)

    def _for_all(self) -> None:
        """All marks look as the chosen one does, but for colour."""
        mark = self.mark
        if mark is not None and self.marks.key is not None:
            digits = AS_SURE if mark.digits is None else str(mark.digits)
            given = {"width": mark.width, "letters": mark.letters, "unit": mark.unit or SUITED, "digits": digits}
            given["spread"] = "yes" if mark.spread else "no"
            self.desk.run_now("style-marks", {"marks": self.marks.key, **given})

    def _rename(self) -> None:
        mark = self.mark
        if mark is not None and mark.id and self.name.text().strip() != mark.name:
            self._change("Rename", name=self.name.text().strip())

    def _change(self, title: str, **facts) -> None:
        if self.marks.live is None:
            self.marks.change_chosen(title, **facts)

    def _resize(self, name: str, value: float) -> None:
        if self.marks.live is None:
            self.marks.resize_chosen(name, value / self._unit[1])

    def _move(self, axis: int, value: float) -> None:
        mark = self.mark
        if mark is not None and self.marks.live is None:
            by = [0.0, 0.0, 0.0]
            by[axis] = value / self._unit[1] - float(mark.middle[axis])
            self.marks.nudge_chosen(np.array(by))


SIZES = ("length", "width", "height", "depth", "diameter")

for stage, order in STAGES.items():
    GROUPS.add(f"marks in {stage}", Group("marks", stage, MarksGroup, order))
