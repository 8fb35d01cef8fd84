"""The Bench itself: one page a stage, and the Checks at its foot."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QFrame, QHBoxLayout, QPushButton, QScrollArea, QVBoxLayout, QWidget

from ...core.operation import Operation, operation_called
from ..light_table.plan_table import PlanPage
from ..models.desk_model import Desk
from .checks import ChecksList
from .here import HerePanel
from .look import LookPanel
from .look_sheet import SheetPanel
from .look_solid import SolidPanel
from .page import PAGES, BenchContext, OperationPages
from .recipe_panel import RecipePanel
from .rows import OnePage
from .under_way import UnderWayPanel

WIDTH = 286


class Bench(QWidget):
    """On the right."""

    def __init__(self, desk: Desk, plan: PlanPage, open_drawer, save_picture, parent=None):
        super().__init__(parent)
        self.setObjectName("bench")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedWidth(WIDTH)
        self.desk, self.viewing = desk, desk.viewing
        self._context = BenchContext(desk, plan, open_drawer, save_picture, self.open_operation)
        self._pages: dict[str, OperationPages] = {}
        self.stack = OnePage()
        self.look, self.checks = LookPanel(desk), ChecksList(desk, self.open_operation)
        inside = QWidget()
        inside.setProperty("kind", "scrolled")
        inner = QVBoxLayout(inside)
        inner.setContentsMargins(0, 0, 10, 0)
        inner.setSpacing(10)
        self.solid, self.sheet = SolidPanel(desk, self.open_filled), SheetPanel(desk, self.open_filled)
        self.recipe = RecipePanel(desk)
        self.recipe.hide()
        inner.addWidget(self.recipe)
        inner.addWidget(self.solid)
        inner.addWidget(self.sheet)
        inner.addWidget(self.stack)
        self.of_look = QWidget()
        look = QVBoxLayout(self.of_look)
        look.setContentsMargins(0, 0, 0, 0)
        look.addWidget(self.look)
        inner.addWidget(self.of_look)
        inner.addStretch(1)
        inside.setFixedWidth(WIDTH - 23)
        self.scroll = scroll = QScrollArea(widgetResizable=True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setFrameShape(QFrame.Shape.NoFrame)
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        scroll.setWidget(inside)
        column = QVBoxLayout(self)
        column.setContentsMargins(13, 10, 5, 10)
        column.setSpacing(8)
        column.addWidget(scroll, 1)
        foot = QVBoxLayout()
        foot.setContentsMargins(0, 0, 8, 0)
        foot.setSpacing(8)
        self.under_way = UnderWayPanel(desk)
        foot.addWidget(self.under_way)
        self.here = HerePanel(desk)  # in view whatever the page is scrolled to
        self.of_image = QWidget()
        below = QVBoxLayout(self.of_image)
        below.setContentsMargins(0, 0, 0, 0)
        below.setSpacing(8)
        below.addWidget(self.here)
        below.addWidget(self.checks)
        foot.addWidget(self.of_image)
        self.surfaces, self.go_measure = QPushButton("Solid view large"), QPushButton("Measure these")
        self.go_measure.setProperty("kind", "primary")
        buttons = QHBoxLayout()
        buttons.addWidget(self.surfaces)
        buttons.addWidget(self.go_measure)
        self.outline_buttons = QWidget()
        self.outline_buttons.setLayout(buttons)
        buttons.setContentsMargins(0, 0, 0, 0)
        foot.addWidget(self.outline_buttons)
        column.addLayout(foot)
        self.go_measure.clicked.connect(self._measure)
        self.viewing.stage_changed.connect(self._stage)
        desk.recipes.opened.connect(self._stage)
        self.viewing.plan_shown.connect(lambda on: self.look.setVisible(not on and self.viewing.look is not None))
        self._stage()

    def page(self, stage: str) -> OperationPages:
        """The page of a stage, made when it is first wanted."""
        if stage not in self._pages:
            page = PAGES.get(stage)
            assert page is not None
            self._pages[stage] = page.make(self._context)
            self.stack.add(self._pages[stage])
        return self._pages[stage]

    @property
    def gather(self):
        return self.page("Gather")

    @property
    def outline(self):
        return self.page("Outline")

    @property
    def measure(self):
        return self.page("Measure")

    def dress(self) -> None:
        self.under_way.dress()
        for page in self._pages.values():
            page.dress()

    def _stage(self) -> None:
        recipe = self.viewing.stage == "Report" and self.desk.recipes.is_open
        self.recipe.setVisible(recipe)
        self.stack.setVisible(not recipe)
        self.of_image.setVisible(not recipe)
        self.of_look.setVisible(not recipe)
        self.stack.show_page(self.page(self.viewing.stage))
        self.outline_buttons.setVisible(self.viewing.stage == "Outline")

    def _measure(self) -> None:
        self.viewing.set_stage("Measure")
        self.desk.run("measure-labels", {})

    def open_filled(self, name: str, settings: dict[str, Any] | None = None) -> None:
        """Open the form of an operation with some of its fields filled in."""
        operation = operation_called(name)
        assert operation is not None
        form = self.open_operation(operation)
        form.fill(settings or {})
        # with the form as what it belongs to: one that is gone by then is shown no more
        QTimer.singleShot(0, form, lambda: self.scroll.ensureWidgetVisible(form, 0, 0) if form.isVisible() else None)

    def open_operation(self, operation: Operation):
        """Go to an operation's stage and open its form, which is given back."""
        stage = operation.stage.capitalize()
        self.viewing.set_stage(stage)
        return self.page(stage).open(operation)
