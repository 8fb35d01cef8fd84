"""Undo and redo as the window's keys and buttons mean them: what a person did last, be it a step of the study or how
something looks. Looks are no steps: they are taken back here, and the study knows nothing of it."""

from __future__ import annotations

from dataclasses import dataclass, replace
from time import monotonic
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, Signal

from ...scene.compare import Comparison
from ...scene.layer import LabelLook
from ...scene.solid.eye import Camera
from ...scene.solid.shown import Shown
from .layers import Layers
from .viewing import Viewing

if TYPE_CHECKING:
    from .solid_model import SolidModel

TOGETHER = 1.0
"""Seconds within which changes of one look, as of a limit that is dragged, are one."""
MOST = 200

Key = tuple
"""("layer", image that leads, thing), ("map", label map), ("solid", image that leads) or ("comparison",)."""
How = tuple | LabelLook | Comparison | Shown


@dataclass
class LookChange:
    """Looks before and after."""

    before: dict[Key, How]
    after: dict[Key, How]
    at: float
    title: str


class Undoing(QObject):
    """What undo and redo would do, and doing it."""

    changed = Signal()

    def __init__(self, viewing: Viewing, layers: Layers):
        super().__init__(viewing)
        self.viewing, self.layers, self.session = viewing, layers, viewing.session
        self.solid: SolidModel | None = None
        """What the Solid view shows, once there is one."""
        self._done: list[LookChange | None] = []
        """What was done since the study was opened, None for a step of the study."""
        self._undone: list[LookChange | None] = []
        self._known = self._looks()
        self._step = self._last_step()
        self._busy = False
        viewing.lead_ready.connect(self._take_in_new)
        layers.changed.connect(self._take_in_new)
        viewing.looks_changed.connect(self._look_changed)
        self.session.history_changed.connect(self._history_changed)

    def begin(self) -> None:
        """Looks as they are now were laid out by the program."""
        self._done, self._undone, self._known = [], [], self._looks()

    # what has happened

    def _looks(self) -> dict[Key, How]:
        """How everything looks now."""
        found: dict[Key, How] = {("comparison",): self.layers.comparison}
        for lead, stack in self.viewing.stacks.items():
            for layer in stack.layers:
                found["layer", lead, layer.thing] = (layer.look, layer.opacity, layer.shown)
        if self.solid is not None:
            found |= {("solid", key): replace(one, camera=Camera()) for key, one in self.solid.chosen.items()}
        return found | {("map", key): look for key, look in self.viewing.maps.looks.items()}

    def _take_in_new(self) -> None:
        """What has been laid out since has the look that it came with."""
        self._known = self._looks() | self._known

    def _last_step(self) -> int:
        entry = self.session.study.history.to_undo()
        return 0 if entry is None else entry.id

    def _look_changed(self) -> None:
        if self.layers.held:  # it comes back by itself
            return
        now, known = self._looks(), self._known
        self._known = now
        if self._busy:
            return
        # what is new has been laid out, not changed; the look of labels that nobody has changed is the usual one
        first: dict[str, How] = {"map": LabelLook(), "solid": Shown()}
        before = {k: known.get(k, first.get(k[0], now[k])) for k in now if k in known or k[0] in first}
        before = {k: old for k, old in before.items() if old != now[k]}
        if not before:
            return
        last, at = self._done[-1] if self._done else None, monotonic()
        if last is not None and at - last.at < TOGETHER and last.after.keys() == before.keys():
            last.after, last.at = {k: now[k] for k in before}, at
            if last.after == last.before:
                self._done.pop()
        else:
            change = LookChange(before, {k: now[k] for k in before}, at, self._title(next(iter(before))))
            self._done = [*self._done[1 - MOST :], change]
        self._undone.clear()
        self.changed.emit()

    def _title(self, key: Key) -> str:
        if key[0] == "comparison":
            return "how layers are compared"
        if key[0] == "solid":
            return "what the Solid view shows"
        record = self.session.study.items.get(key[-1])
        return f"look of {record.name}" if record is not None else "a look"

    def _history_changed(self) -> None:
        step = self._last_step()
        if not self._busy and step > self._step:
            self._done = [*self._done[1 - MOST :], None]
            self._undone.clear()
        self._step = max(self._step, step) if not self._busy else step
        self.changed.emit()

    # what undo and redo would do

    @property
    def undo_title(self) -> str | None:
        """What undo would take back; None for nothing."""
        change = self._done[-1] if self._done else None
        return change.title if change is not None else self.session.undo_title if self.may_step else None

    @property
    def redo_title(self) -> str | None:
        """What redo would do again."""
        change = self._undone[-1] if self._undone else None
        return change.title if change is not None else self.session.redo_title if self.may_step else None

    @property
    def may_step(self) -> bool:
        """Whether steps of the study can be taken back."""
        return not self.session.study.read_only

    def undo(self) -> None:
        """Take back what was done last; a gesture in hand is ended, and is that."""
        self.session.end_gesture()
        self._move(self._done, self._undone, back=True)

    def redo(self) -> None:
        """Do again what was taken back last; a gesture in hand is ended, and nothing is left to be done again."""
        self.session.end_gesture()
        self._move(self._undone, self._done, back=False)

    def _move(self, source: list[LookChange | None], target: list[LookChange | None], back: bool) -> None:
        change = source[-1] if source else None
        coming = None
        self._busy = True
        try:
            if change is not None:
                self._put(change.before if back else change.after)
                change.at = -TOGETHER  # a new change of the same look is one of its own
            else:
                before = self._last_step()
                coming = (self.session.undo if back else self.session.redo)()
                if self._last_step() == before and coming is None:  # there was nothing, or it could not be kept
                    return
            target.append(change)
            del source[-1:]
        finally:
            self._busy = False
            self._known, self._step = self._looks(), max(self._last_step(), 0 if coming is None else coming.id)
        self.changed.emit()

    def _put(self, looks: dict[Key, How]) -> None:
        """Give things that are still there a look that they had."""
        viewing = self.viewing
        for key, how in looks.items():
            if isinstance(how, Comparison):
                self.layers.comparison = how
            elif isinstance(how, Shown):
                assert self.solid is not None
                self.solid.put_back(key[1], how)
            elif isinstance(how, LabelLook):
                viewing.maps.looks[key[1]] = how
            elif key[1] in viewing.stacks:
                _, lead, thing = key
                look, opacity, shown = how
                viewing.stacks[lead] = viewing.stacks[lead].changed(thing, look=look, opacity=opacity, shown=shown)
        self.layers.changed.emit()
        viewing.looks_changed.emit()
