"""Fields of a form that tell what will be used where nothing is typed."""

from __future__ import annotations

from typing import Any, Protocol

from PySide6.QtCore import QObject, QTimer
from PySide6.QtWidgets import QWidget

from ...core.errors import Trouble
from ...core.left_out import Found
from ...core.operation import Operation
from ...study.inputs import settle
from ...study.used import found_for
from ..models.desk_model import Desk
from .found_field import FoundField

SOON, AGAIN = 30, 250
"""ms after a form has been opened, and after something of it has changed."""


class Asking(Protocol):
    """A form: what it is of, its fields by the names of settings, and what they hold."""

    operation: Operation
    fields: dict[str, QWidget]

    def values(self) -> dict[str, Any]: ...
    def isVisible(self) -> bool: ...


class Telling(QObject):
    """Asks for what would be found, in a worker, whenever something it may depend on has changed."""

    def __init__(self, desk: Desk, form: Asking, parent: QWidget):
        super().__init__(parent)
        self.desk, self.form = desk, form
        self.fields = {name: field for name, field in form.fields.items() if isinstance(field, FoundField)}
        self._known: Any = None
        self._look = QTimer(self, interval=SOON)
        self._look.timeout.connect(self.look)
        if any(f.asked.left_out is not None and f.asked.left_out.find is not None for f in self.fields.values()):
            self._look.start()

    @property
    def settled(self) -> bool:
        """Whether nothing is being found."""
        return not self._look.isActive() or self._known == self._wanted()

    def _wanted(self) -> Any:
        try:
            return self.form.values(), self.desk.lead
        except Trouble:  # said when it is to be done
            return None

    def look(self) -> None:
        """Ask anew where something has changed, while the form is seen."""
        self._look.setInterval(AGAIN)
        wanted = self._wanted() if self.form.isVisible() and not self.desk.session.closed else None
        if wanted is None or wanted == self._known:
            return
        self._known = wanted
        given, lead = wanted
        try:
            task = settle(self.desk.study, self.form.operation.name, given, lead)
        except Trouble:
            self._put({})
            return
        study = self.desk.study

        def put(found: dict[str, Found | str]) -> None:
            if self._known == wanted:
                self._put(found)

        def failed(_: BaseException) -> None:
            if self._known == wanted:
                self._put({})

        self.desk.session.work.start("Looking what is said", lambda progress: found_for(study, task, progress), put,
                                     failed, "trial", loud=False, owner=self)  # fmt: skip

    def _put(self, found: dict[str, Found | str]) -> None:
        for name, field in self.fields.items():
            field.tell(found.get(name))
