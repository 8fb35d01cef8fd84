"""What can be done with curves that the study keeps, whatever they are of."""

from __future__ import annotations

from PySide6.QtCore import QObject, Signal

from ...core.curve import Curve
from .viewing import Viewing


class CurveKeeping(QObject):
    """Curves of the study by their ids: shown or not, drawn otherwise, called otherwise, taken away."""

    changed = Signal()
    """The curve in hand, those kept, or what is to be shown of them."""

    def __init__(self, viewing: Viewing):
        super().__init__(viewing)
        self.viewing, self.session = viewing, viewing.session
        self.hidden: set[int] = set()

    def is_mine(self, curve: Curve) -> bool:
        """Whether a curve is one of those that are kept here."""
        raise NotImplementedError

    def held(self) -> list[tuple[int, Curve]]:
        """The curves that are kept, with their ids, in the order they came."""
        return [(key, curve) for key, curve in self.viewing.study.curves() if self.is_mine(curve)]

    def set_shown(self, key: int, on: bool) -> None:
        (self.hidden.discard if on else self.hidden.add)(key)
        self.changed.emit()

    def style(self, key: int, **changes) -> None:
        """Draw a kept curve otherwise: colour, width, dashes."""
        self.session.run("style-curve", {"curve": key, **changes})

    def rename(self, key: int, name: str) -> None:
        self.session.run("rename", {"thing": key, "name": name})

    def let_go(self, key: int) -> None:
        """Take a kept curve away; undo brings it back."""
        self.session.run("take-off", {"thing": key})
