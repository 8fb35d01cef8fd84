"""Pages of the Bench, one a stage, and the groups on them. Each page and each group is one file, which registers
itself."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from PySide6.QtWidgets import QVBoxLayout, QWidget

from ...core.operation import Operation
from ...core.registry import Registry
from ..tool import tool_named
from .headings import Headings
from .rows import OnePage, page, soft, title

if TYPE_CHECKING:
    from ..light_table.plan_table import PlanPage
    from ..models.desk_model import Desk


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
        self.headings: Headings | None = None
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
            self.desk.asked.let_go()

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

    def add_headings(self, stage: str, column: QVBoxLayout, left_out: Sequence[str] = ()) -> None:
        """Put the operations of a stage under their headings into a column, but for those with a place of their own."""
        self.headings = Headings(self.desk, stage, self.open, left_out)
        column.addWidget(self.headings)

    def dress(self) -> None:
        """Put on the theme in force."""
        if self.headings is not None:
            self.headings.dress()
        for group in self.groups.values():
            if hasattr(group, "dress"):
                group.dress()


def stage_page(context: BenchContext, stage: str, sentence: str, left_out: tuple[str, ...] = ()) -> OperationPages:
    """A page of a title, a sentence, the stage's groups, and its operations under their headings."""
    home, column = page()
    pages = OperationPages(context.desk, home)
    column.addWidget(title(stage))
    column.addWidget(soft(sentence))
    pages.add_groups(context, stage, column)
    pages.add_headings(stage, column, left_out)
    return pages
