"""Follow a vessel: each click goes on from the last one along the vessel, and paints it."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Qt

from ...core.errors import Trouble
from ...scene.pieces import at_pixel
from ...scene.primitives import Oval, Path, Primitive, Stroke
from ...scene.view import View
from ..models.desk_model import Desk
from ..tool import Gesture, Tool, ToolEvent, register

COLOUR = "#F0B263"


class Following(Gesture):
    """From click to click; every stretch is a step of its own, worked out beside the window."""

    goes_on = True
    ended = False

    def __init__(self, event: ToolEvent):
        self.desk: Desk = event.desk
        label = event.desk.hand.require_label()
        self.label, self.last = label.name, np.asarray(event.world, float)
        self.pointer = self.last
        record = event.desk.viewing.record
        assert record is not None
        self.image = record.id

    def move(self, event: ToolEvent) -> None:
        self.pointer = np.asarray(event.world, float)
        self.desk.hand.gesture_moved.emit()

    def press(self, event: ToolEvent) -> None:
        """Go on to here."""
        at = np.asarray(event.world, float)
        if np.linalg.norm(at - self.last) <= 2 * event.view.pixel:
            return
        points = "; ".join(",".join(f"{v:.9g}" for v in place) for place in (self.last, at))
        try:
            self.desk.session.require_labels_free()
        except Trouble as trouble:
            self.desk.session.trouble.emit(str(trouble))
            return
        before, self.last = self.last, at
        given = {"label": self.label, "points": points}
        if self.desk.run("follow-vessel", given, lambda kept: self._go_on()) is None:
            self.last = before
        self._go_on()

    def _go_on(self) -> None:
        """An operation ends what a hand is at, and this goes on from here, unless something else was begun."""
        hand = self.desk.hand
        if hand.gesture is None and hand.tool == "vessel" and not self.ended and self.desk.viewing.leads(self.image):
            hand.begin(self)
        hand.gesture_moved.emit()

    def over(self, view: View) -> list[Primitive]:
        a, b = (tuple(float(v) for v in at_pixel(view, p)) for p in (self.last, self.pointer))
        return [Path((a, b), Stroke(COLOUR, 1.2, (4, 4))), Oval(a, (4.0, 4.0), Stroke(COLOUR, 1.6))]

    def key(self, key: Qt.Key) -> bool:
        if key in (Qt.Key.Key_Escape, Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.ended = True
            self.desk.hand.end_gesture()
            return True
        return False


def _start(event: ToolEvent) -> Gesture | None:
    try:
        return Following(event)
    except Trouble as trouble:
        event.desk.session.trouble.emit(str(trouble))
        return None


register(
    Tool(
        "vessel",
        "Vessel",
        "vessel",
        "Click along a vessel: it is followed from click to click and painted with the chosen label. Enter or Esc ends"
        " it; the next click begins a branch.",
        _start,
        ("Outline",),
        order=6,
        more="artery vein follow trace centreline centerline tube",
    )
)
