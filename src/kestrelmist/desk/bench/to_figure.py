"""What a form would write, added to a figure of the study instead."""

from __future__ import annotations

from typing import Any, Protocol

import yaml
from PySide6.QtWidgets import QInputDialog, QPushButton, QWidget

from ...core.errors import Trouble
from ...core.operation import Operation
from ...study.inputs import settle
from ..models.desk_model import Desk
from ..widgets.plain_text import plain_tip


class Filled(Protocol):
    """A form, as far as it is asked here."""

    def values_without(self, names: tuple[str, ...]) -> dict[str, Any]: ...


PANELS = ("picture", "sheet", "render", "plot", "table-picture")
"""Operations that make a page (`study.operations.figures.PANELS`, which a form does not wait for)."""


def ask_for_figure(parent: QWidget, desk: Desk) -> str:
    """The name of a figure of the study, or of a new one; "" when nobody wants any."""
    from ...study.operations.figures import figures  # what operations need is not wanted before

    first = [one.name for one in figures(desk.study)] or ["Figure 1"]
    name, said = QInputDialog.getItem(parent, "Add to a figure", "Figure", first, len(first) - 1, True)
    return name.strip() if said else ""


def put_panes_on_figure(parent: QWidget, desk: Desk) -> None:
    """Ask for a figure, and add the panes to it."""
    record = desk.viewing.record
    name = ask_for_figure(parent, desk) if record is not None else ""
    if record is not None and name:
        desk.save_view()
        desk.run("panes-on-figure", {"image": record.id, "figure": name})


class AddToFigure(QPushButton):
    """Asks for the figure's name, which may be a new one."""

    def __init__(self, desk: Desk, form: Filled, operation: Operation):
        super().__init__("Add to a figure …")
        self.setProperty("kind", "link")
        self.setToolTip(plain_tip("Make it a panel of a figure, which is drawn anew whenever it is written"))
        self.desk, self.form, self.operation = desk, form, operation
        self.clicked.connect(self.ask)

    def ask(self) -> None:
        try:
            given = self.given()
        except Trouble as trouble:
            self.desk.session.trouble.emit(str(trouble))
            return
        name = ask_for_figure(self, self.desk)
        if name:
            self.desk.run("add-panel", {"figure": name, "panel": self.operation.name, "given": given})

    def given(self) -> str:
        """What the form would use, as text: things by their ids, what leads among them."""
        values = self.form.values_without(("to",))
        task = settle(self.desk.study, self.operation.name, values | {"to": "panel.svg"}, self.desk.viewing.lead)
        told: dict = {}
        for name, several in task.inputs.items():
            keys = [one.item for one in several]
            if any(key is None for key in keys):
                raise Trouble("A panel is made of things of the study", "bring the file into the study first")
            many = next(p.many for p in self.operation.inputs if p.name == name)
            if keys:
                told[name] = keys if many else keys[0]
        settings = {n: v for n, v in task.settings.items() if n not in ("to", "replace_file") and v is not None}
        told |= {n: v for n, v in self.operation.written(settings).items() if v is not None}
        return yaml.safe_dump(told, default_flow_style=True, width=10**6, allow_unicode=True).strip()[1:-1]
