"""Touch cells up: a drag from one to another joins them, a drag across one cuts it, Alt+click takes one away, a click
on nothing adds one of the brush's size."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Qt

from ...core.errors import Trouble
from ...core.labels import Label
from ...scene.pieces import at_pixel
from ...scene.primitives import Path, Primitive, Stroke
from ...scene.view import View
from ..models.desk_model import Desk
from ..tool import Gesture, Tool, ToolEvent, register

COLOUR = "#F0B263"


class TouchingUp(Gesture):
    """One drag or click on the label map that is seen when it begins."""

    def __init__(self, event: ToolEvent):
        self.desk: Desk = event.desk
        event.desk.session.study.catalogue.require_writable()
        event.desk.session.require_labels_free()
        labels = event.desk.viewing.maps.labels
        if labels is None:
            raise Trouble("There are no labels to touch up", "find cells first, or make a label")
        self.labels, self.start = labels, np.asarray(event.world, float)
        self.end, self.pixel = self.start, event.view.pixel
        self.normal = np.asarray(event.view.normal, float)
        self.takes = bool(event.modifiers & Qt.KeyboardModifier.AltModifier)

    def move(self, event: ToolEvent) -> None:
        self.end = np.asarray(event.world, float)
        self.desk.hand.gesture_moved.emit()

    def over(self, view: View) -> list[Primitive]:
        a, b = (tuple(float(v) for v in at_pixel(view, p)) for p in (self.start, self.end))
        return [Path((a, b), Stroke(COLOUR, 1.6))]

    def at(self, place: np.ndarray) -> Label | None:
        """The label at a place."""
        number = self.labels.at(place)
        return self.labels.table.get(number) if number else None

    def key(self, key: Qt.Key) -> bool:
        if key == Qt.Key.Key_Escape:
            self.desk.hand.cancel_gesture()
            return True
        return False

    def finish(self) -> None:
        one, other = self.at(self.start), self.at(self.end)
        if np.linalg.norm(self.end - self.start) <= 3 * self.pixel:
            self._clicked(one)
        elif one is not None and other is not None and one.number != other.number:
            given = {"how": "join", "label": one.name, "other_label": other.name}
            self.desk.run("combine-labels", given, title=f"Join {other.name} to {one.name}")
        else:
            self._cut()

    def _clicked(self, label: Label | None) -> None:
        if self.takes and label is not None:
            self.desk.run("delete-label", {"label": label.name})
        elif label is not None:
            self.desk.hand.choose_label(label.number)
        elif not self.takes:
            name = next(f"Cell {n}" for n in range(1, 70_000) if not self.labels.table.has_name(f"Cell {n}"))
            size = self.desk.hand.settings.size
            point = tuple(float(v) for v in self.start)
            self.desk.run("paint", {"label": name, "point": point, "diameter": size})

    def _cut(self) -> None:
        """Along the drag: what it crosses first."""
        steps = self.start + np.linspace(0, 1, 200)[:, None] * (self.end - self.start)
        found = next(filter(None, map(self.at, steps)), None)
        if found is None:
            self.desk.session.trouble.emit("The line crosses no label: drag across the one to be cut.")
            return
        third = self.start + self.normal * max(float(np.linalg.norm(self.end - self.start)), 1e-9)
        points = "; ".join(",".join(f"{v:.9g}" for v in p) for p in (self.start, self.end, third))
        self.desk.run("separate", {"label": found.name, "how": "plane", "points": points})


def _start(event: ToolEvent) -> Gesture | None:
    try:
        return TouchingUp(event)
    except Trouble as trouble:
        event.desk.session.trouble.emit(str(trouble))
        return None


register(
    Tool(
        "touch-up",
        "Touch up",
        "touch-up",
        "Drag from one label to another to join them, across one to cut it. Alt+click takes one away; a click beside"
        " them adds one of the brush’s size.",
        _start,
        ("Outline",),
        ("size",),
        order=8,
        more="split merge join cut cells touching remove add correct",
    )
)
