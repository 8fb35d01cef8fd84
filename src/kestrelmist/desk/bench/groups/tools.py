"""The buttons of the tools, and what the one in hand does."""

from __future__ import annotations

from PySide6.QtCore import QSize, Qt
from PySide6.QtWidgets import QGridLayout, QSizePolicy, QToolButton

from ...theme.theme import icon
from ...tool import TOOLS, tool_named
from ...widgets.plain_text import plain_tip
from ..page import GROUPS, BenchContext, Group
from ..rows import Shaded, section, soft


class ToolButtons(Shaded):
    """Two in a row; the one in hand is pressed."""

    def __init__(self, context: BenchContext):
        super().__init__()
        self.hand = context.desk.hand
        self.buttons: dict[str, QToolButton] = {}
        self.hint = soft()
        self.column.addWidget(section("Tools"))
        grid = QGridLayout()
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setSpacing(4)
        for n, tool in enumerate(t for t in TOOLS if t.offered):
            button = QToolButton(text=f" {tool.title}", checkable=True)
            button.setProperty("kind", "tool")
            button.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextBesideIcon)
            button.setIconSize(QSize(16, 16))
            button.setToolTip(plain_tip(tool.hint))
            button.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
            button.clicked.connect(lambda _=False, name=tool.name: self._take(name))
            grid.addWidget(button, n // 2, n % 2)
            self.buttons[tool.name] = button
        self.column.addLayout(grid)
        self.column.addWidget(self.hint)
        self.hand.tool_changed.connect(self._follow)
        self.dress()
        self._follow()

    def _take(self, name: str) -> None:
        self.hand.set_tool(name)
        self._follow()  # a second press on the tool in hand leaves it pressed

    def dress(self) -> None:
        for name, button in self.buttons.items():
            button.setIcon(icon(tool_named(name).icon, 16))

    def _follow(self) -> None:
        for name, button in self.buttons.items():
            button.setChecked(name == self.hand.tool)
        self.hint.setText(tool_named(self.hand.tool).hint)


GROUPS.add("tools", Group("tools", "Outline", ToolButtons, 30))
