"""Pages of the Bench, one a stage, and the groups on them. Each page and each group is one file, which registers
itself."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from importlib import import_module
from typing import TYPE_CHECKING, Any

from PySide6.QtWidgets import QGridLayout, QPushButton, QVBoxLayout, QWidget

from ...core.operation import Operation, operations_of
from ...core.registry import Registry
from ..plain_text import plain_tip
from ..tool import tool_named
from .rows import OnePage, page, section, soft, title

if TYPE_CHECKING:
    from ..desk_model import Desk
    from ..plan_table import PlanPage


HALF = 124
"""Pixels of a title that has a row of the Bench to itself when it is longer."""


@dataclass(frozen=True)
class BenchContext:
    """What pages and groups are made with."""

    desk: Desk
    plan: PlanPage
    open_drawer: Callable[[str], Any]
    save_picture: Callable[[], Any]
    open_operation: Callable[[Operation], Any]
    go: Callable[[str], Any] = field(default=lambda stage: None)


@dataclass(frozen=True)
class Page:
    """A stage's page: `make(context)` gives it."""

    stage: str
    make: Callable[[BenchContext], OperationPages]


@dataclass(frozen=True)
class Group:
    """A group on a stage's page.

    Parameters
    ----------
    name : str
        Tools name it among their groups when it holds settings of theirs.
    stage : str
    make : callable
        `make(context)` gives the widget.
    order : int
        Where it stands on the page, from the top.
    of_tool : bool
        Shown only while the tool in hand names it.
    """

    name: str
    stage: str
    make: Callable[[BenchContext], QWidget]
    order: int = 0
    of_tool: bool = False


PAGES: Registry[Page] = Registry("page", f"{__package__}.pages")
GROUPS: Registry[Group] = Registry("group", f"{__package__}.groups", order=lambda g: g.order)


class OperationPages(OnePage):
    """A stage's own page, and the form of one operation in front of it when asked for."""

    def __init__(self, desk: Desk, home: QWidget):
        super().__init__()
        self.desk, self.home, self.form = desk, home, None
        self.groups: dict[str, QWidget] = {}
        self.add(home)

    def open(self, operation: Operation):
        """The form of an operation, in front of the page."""
        from .form import OperationForm

        self.close_form()
        self.form = OperationForm(self.desk, operation, self.close_form, self.open)
        self.add(self.form)
        self.show_page(self.form)
        return self.form

    def close_form(self) -> None:
        if self.form is not None:
            self.remove(self.form)
            self.form.deleteLater()
            self.form = None
            self.show_page(self.home)
            if self.desk.hand.tool in ("frame", "pick"):
                self.desk.hand.set_tool("point")
            self.desk.hand.set_framed(None)
            self.desk.hand.set_picked(())
            self.desk.hand.asked_by = None

    def add_groups(self, context: BenchContext, stage: str, column: QVBoxLayout) -> None:
        """Put the groups that are registered for a stage into a column."""
        for group in GROUPS:
            if group.stage == stage:
                self.groups[group.name] = group.make(context)
                column.addWidget(self.groups[group.name])
        follow = [g for g in GROUPS if g.stage == stage and g.of_tool]

        def show() -> None:
            tool = tool_named(self.desk.hand.tool)
            for group in follow:
                self.groups[group.name].setVisible(group.name in tool.groups)

        if follow:
            self.desk.hand.tool_changed.connect(show)
            show()

    def dress(self) -> None:
        """Put on the theme in force."""
        for group in self.groups.values():
            if hasattr(group, "dress"):
                group.dress()


def stage_page(context: BenchContext, stage: str, sentence: str, left_out: tuple[str, ...] = ()) -> OperationPages:
    """A page of a title, a sentence, the stage's groups, and its operations by name."""
    home, column = page()
    pages = OperationPages(context.desk, home)
    column.addWidget(title(stage))
    column.addWidget(soft(sentence))
    pages.add_groups(context, stage, column)
    listed = [o for o in operations_of(stage.lower()) if o.name not in left_out]
    if listed and pages.groups:
        column.addWidget(section("More"))
    package = import_module(f"kestrelmist.{stage.lower()}")
    order = getattr(package, "GROUPS", ())
    headed: dict[str, QWidget] = {}
    for group in (*order, ""):
        here = [o for o in listed if o.group == group or (not group and o.group not in order)]
        if here:
            headed[group] = _headed(group, operation_buttons(lambda: pages, here, pairs=bool(group)))
            column.addWidget(headed[group])
    if hasattr(package, "groups_for"):
        _follow_the_lead(context.desk, column, headed, package.groups_for)
    return pages


def _headed(group: str, buttons: QWidget) -> QWidget:
    widget = QWidget()
    column = QVBoxLayout(widget)
    column.setContentsMargins(0, 0, 0, 0)
    column.setSpacing(7)
    if group:
        column.addWidget(section(group))
    column.addWidget(buttons)
    return widget


def _follow_the_lead(desk: Desk, column: QVBoxLayout, headed: dict[str, QWidget], groups_for) -> None:
    """Headings stand in the order in which the image that leads needs them."""
    first = min(column.indexOf(widget) for widget in headed.values())

    def arrange() -> None:
        record = desk.viewing.record
        if record is None:
            return
        order = [g for g in (*groups_for(record.grid.shape, record.axes, record.unit), "") if g in headed]
        for n, group in enumerate(order):
            if column.indexOf(headed[group]) != first + n:
                column.removeWidget(headed[group])
                column.insertWidget(first + n, headed[group])

    desk.viewing.lead_changed.connect(arrange)
    arrange()


def operation_buttons(
    pages_of: Callable[[], OperationPages], operations: list[Operation], pairs: bool = False
) -> QWidget:
    """Links for the operations, as `pairs` two in a row where they are short; `pages_of()` gives the pages that open
    the form."""
    widget = QWidget()
    grid = QGridLayout(widget)
    grid.setContentsMargins(0, 0, 0, 0)
    grid.setSpacing(2)
    grid.setColumnStretch(0, 1)
    grid.setColumnStretch(1, 1)
    at = 0
    for operation in operations:
        button = QPushButton(operation.title)
        button.setProperty("kind", "link")
        button.setToolTip(plain_tip(operation.summary))
        button.clicked.connect(lambda _=False, o=operation: pages_of().open(o))
        wide = not pairs or button.fontMetrics().horizontalAdvance(operation.title) > HALF
        at += at % 2 if wide else 0  # a long one has a row of its own
        grid.addWidget(button, at // 2, at % 2, 1, 2 if wide else 1)
        at += 2 if wide else 1
    return widget
