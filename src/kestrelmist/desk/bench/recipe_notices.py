"""What the checks say of a recipe before it starts, on the Bench, with what mends it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QGridLayout, QInputDialog, QPushButton, QVBoxLayout, QWidget

from ...study.recipes.mends import PlanMend
from ...study.recipes.plan import Plan
from ...study.recipes.plan_notice import LOOK, PlanNotice
from ..models.desk_model import Desk
from ..widgets.plain_text import plain_tip
from .checks import Dot
from .rows import section, soft

MOST, OFFERED = 6, 3
"""Notices that are shown, and buttons of one."""


class RecipeNotices(QWidget):
    """The open notices; the same of several is said once."""

    def __init__(self, desk: Desk):
        super().__init__()
        self.model = desk.recipes
        self.column, self.inside = QVBoxLayout(self), QWidget()
        self.column.setContentsMargins(0, 0, 0, 0)
        self.column.addWidget(self.inside)
        self.model.planned.connect(self.fill)

    def fill(self) -> None:
        """What the checks say, the same of several said once."""
        fresh = QWidget()
        column = QVBoxLayout(fresh)
        column.setContentsMargins(0, 4, 0, 0)
        column.setSpacing(5)
        plan = self.model.plan
        if plan is not None:
            column.addWidget(section("Before it starts"))
            groups = said_once(plan)
            for group in groups[:MOST]:
                column.addWidget(self._notice(group))
            more = sum(len(g.notices) for g in groups[MOST:])
            if more > 0:
                column.addWidget(soft(f"{more} more notices."))
            if not plan.open:
                column.addWidget(soft("Nothing to mend."))
            if plan.waived:
                count = sum(n.key in plan.waived for n in plan.notices)
                column.addWidget(soft(f"{count} waived; they go into the report."))
            for key in plan.left_out:
                who = next((u.words for u in plan.units if u.key == key), "")
                if who:
                    back = QPushButton(f"Take {who} in again")
                    back.setProperty("kind", "link")
                    back.clicked.connect(partial(self.model.bring_back, key))
                    column.addWidget(back)
        self.column.replaceWidget(self.inside, fresh)
        self.inside.hide()
        self.inside.deleteLater()
        self.inside = fresh

    def _notice(self, group: SaidOnce) -> QWidget:
        line = QWidget()
        grid = QGridLayout(line)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(6)
        grid.setVerticalSpacing(3)
        grid.setColumnStretch(1, 1)
        first = group.notices[0]
        grid.addWidget(Dot(first.level), 0, 0, Qt.AlignmentFlag.AlignTop)
        grid.addWidget(soft(group.sentence), 0, 1)
        many = len(group.notices) > 1
        buttons: list[tuple[str, Callable[[], None]]] = [
            (mend.words_for(many), partial(self._mend, group, mend))
            for mend in [m for m in first.mends if not (many and m.for_one)][:OFFERED]
        ]
        if first.level == LOOK:
            buttons.append(("Waive…", partial(self.ask_and_waive, group)))
        for n, (words, do) in enumerate(buttons):
            button = QPushButton(words if len(words) < 30 else words[:28] + "…")
            button.setToolTip(plain_tip(words))
            button.setProperty("kind", "small")
            button.clicked.connect(do)
            grid.addWidget(button, 1 + n, 1, Qt.AlignmentFlag.AlignLeft)
        return line

    def _mend(self, group: SaidOnce, mend: PlanMend) -> None:
        for notice in group.notices if mend.for_each else group.notices[:1]:
            mend.mend(self.model, notice.unit, notice.sentence)

    def ask_and_waive(self, group: SaidOnce) -> None:
        """Why notices do not matter."""
        reason, said = QInputDialog.getText(self, "Waive", f"{group.sentence}\nWhy does it not matter?")
        if said and reason.strip():
            self.model.waive(list(group.notices), reason.strip())


@dataclass(frozen=True)
class SaidOnce:
    """Notices that say the same of several."""

    sentence: str
    notices: tuple[PlanNotice, ...]


def said_once(plan: Plan) -> list[SaidOnce]:
    """The open notices of a plan; what is the same of several is one sentence with their names."""
    words = {u.key: u.words for u in plan.units}
    by: dict[tuple[str, str, str], list[PlanNotice]] = {}
    for notice in plan.open:
        rest = notice.sentence.removeprefix(f"{words.get(notice.unit, '')}: ")
        by.setdefault((notice.check, notice.level, rest), []).append(notice)
    found = []
    for (_, _, rest), notices in by.items():
        names = [words[n.unit] for n in notices if n.unit in words]
        told = ", ".join(names[:3]) + (f" and {len(names) - 3} more" if len(names) > 3 else "")
        found.append(SaidOnce(f"{told}: {rest}" if told else rest, tuple(notices)))
    return found
