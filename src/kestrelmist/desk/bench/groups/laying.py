"""Laying by hand on the Bench: what moves onto what, the tool, and what one press does."""

from __future__ import annotations

import math

from PySide6.QtCore import QSize, Qt
from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QPushButton, QSizePolicy, QToolButton

from ....core.errors import Trouble
from ...theme.theme import icon
from ...tool import tool_named
from ...widgets.plain_text import plain_tip
from ..page import GROUPS, BenchContext, Group
from ..rows import Shaded, row, section, soft

TOOL = "lay"
WAYS = (
    ("middle", "Middle on middle", "Shift it so that the middles of both grids lie together"),
    ("axes", "Axes on axes", "Turn it so that the axes of both grids run alike, and lay middle on middle"),
)


def numbers_in(text: str, count: int) -> tuple[float, ...]:
    """Numbers that were typed, with commas or spaces between. Raises Trouble when they are others."""
    parts = text.replace("−", "-").replace(";", " ").replace(",", " ").split()
    try:
        found = tuple(float(part) for part in parts)
    except ValueError:
        found = ()
    if len(found) != count or not all(map(math.isfinite, found)):
        wanted = "three numbers, as in 1.5, −2, 0" if count == 3 else "one number, as in 1.02"
        raise Trouble(f"“{text}” is no move", f"type {wanted}")
    return found


class LayingGroup(Shaded):
    """The layer above is moved; the image that leads stays."""

    def __init__(self, context: BenchContext):
        super().__init__()
        self.desk, self.hand, self.laying = context.desk, context.desk.hand, context.desk.laying
        self.column.addWidget(section("By hand"))
        self.said = soft()
        self.column.addWidget(self.said)
        self.button = QToolButton(text=" Lay by hand", checkable=True)
        self.button.setProperty("kind", "tool")
        self.button.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextBesideIcon)
        self.button.setIconSize(QSize(16, 16))
        self.button.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.button.clicked.connect(self._take)
        self.numbers = QPushButton("By numbers", checkable=True)
        self.numbers.setProperty("kind", "small")
        self.numbers.setToolTip(plain_tip("Type shift, turn and scale"))
        self.numbers.toggled.connect(self._follow)
        line = QHBoxLayout()
        line.setSpacing(4)
        line.addWidget(self.button, 1)
        line.addWidget(self.numbers)
        self.column.addLayout(line)
        self.ways: dict[str, QPushButton] = {}
        line = QHBoxLayout()
        line.setSpacing(4)
        for name, words, tip in WAYS:
            button = QPushButton(words)
            button.setProperty("kind", "small")
            button.setToolTip(plain_tip(tip))
            button.clicked.connect(lambda _=False, name=name: self._lay(name))
            line.addWidget(button, 1)
            self.ways[name] = button
        self.column.addLayout(line)
        self.column.addWidget(self._typed())
        self.hint = soft(tool_named(TOOL).hint)
        self.column.addWidget(self.hint)
        self.hand.tool_changed.connect(self._follow)
        self.laying.changed.connect(self._follow)
        self.dress()
        self._follow()

    def _typed(self) -> Shaded:
        """Fields of a move that is typed."""
        self.typed = Shaded(4)
        self.shift, self.turn, self.scale = (QLineEdit(text) for text in ("0, 0, 0", "0, 0, 0", "1"))
        told = (
            (self.shift, "Shift", "To the right, the front and up, in the unit of the image"),
            (self.turn, "Turn", "Degrees about the axes that run right, to the front and up, as one turn"),
            (self.scale, "Scale", "How many times larger"),
        )
        for field, words, tip in told:
            field.setProperty("kind", "figures")
            field.setAccessibleName(f"{words} by hand")
            field.setToolTip(plain_tip(f"{tip}; turn and scale leave the crosshair where it is"))
            field.returnPressed.connect(self._move)
            self.typed.column.addLayout(row(words, field, width=44))
        self.go = QPushButton("Move it")
        self.go.setProperty("kind", "small")
        self.go.clicked.connect(self._move)
        self.typed.column.addWidget(self.go)
        return self.typed

    def _move(self) -> None:
        """The move that is typed, about the crosshair."""
        self.hand.end_gesture()
        try:
            shift, turn = (numbers_in(field.text(), 3) for field in (self.shift, self.turn))
            (scale,) = numbers_in(self.scale.text(), 1)
            about = tuple(float(v) for v in self.desk.viewing.crosshair)
            settings = {"shift": shift, "turn": turn, "scale": scale, "about": about}
            self.laying.do(self.laying.require(), settings)
        except Trouble as trouble:
            self.desk.session.trouble.emit(str(trouble))

    def dress(self) -> None:
        self.button.setIcon(icon(tool_named(TOOL).icon, 16))

    def _take(self) -> None:
        self.hand.set_tool(TOOL if self.hand.tool != TOOL else "point")
        self._follow()

    def _lay(self, first: str) -> None:
        self.hand.end_gesture()
        try:
            self.laying.do(self.laying.require(), {"first": first})
        except Trouble as trouble:
            self.desk.session.trouble.emit(str(trouble))

    def _follow(self) -> None:
        record, lead = self.laying.moves, self.desk.viewing.record
        held = self.hand.tool == TOOL
        self.button.setChecked(held)
        self.hint.setVisible(held and not self.numbers.isChecked())
        self.typed.setVisible(self.numbers.isChecked())
        self.go.setEnabled(record is not None)
        for button in self.ways.values():
            button.setEnabled(record is not None)
        if record is None or lead is None:
            self.said.setText("Drag the card of what is to move onto the picture: it lies over it, and can be moved.")
        else:
            self.said.setText(f"“{record.name}” moves, “{lead.name}” stays.")


GROUPS.add("lay", Group("lay", "Align", LayingGroup, 20))
