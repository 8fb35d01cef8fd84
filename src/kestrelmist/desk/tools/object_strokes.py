"""From strokes to object: drag inside a structure, with Alt outside it; the object is found after every stroke."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Qt

from ...core.errors import Trouble
from ...core.geometry.mark import Mark
from ...core.geometry.thinned import thinned
from ..models.object_strokes import OUTSIDE
from ..tool import Gesture, Tool, ToolEvent, register
from .marks import OnMarks, can_draw

AWAY = "#5FA8D3"
STEP = 2.0
"""Pixels between two points of a stroke."""


class ObjectStroke(OnMarks):
    """One stroke; it stays as a mark, named for the label or “Outside”, and what all strokes of the label mean is
    worked out beside the window."""

    def __init__(self, event: ToolEvent):
        super().__init__(event)
        self.strokes = event.desk.strokes
        label = event.desk.hand.named_label()
        self.strokes.stop()
        self.label = label.name
        self.outside = bool(event.modifiers & Qt.KeyboardModifier.AltModifier)
        self.line = [self.start]
        self.place = tuple(event.desk.viewing.place) or None
        self.colour = AWAY if self.outside else label.colour
        self.marks.choose(None)

    def move(self, event: ToolEvent) -> None:
        at = np.asarray(event.world, float)
        if np.linalg.norm(at - self.line[-1]) >= STEP * event.view.pixel:
            self.line.append(at)
            self.show(self._made())

    def _made(self) -> Mark:
        corners = thinned(np.array(self.line), 0.35 * self.pixel) if len(self.line) > 2 else np.array(self.line)
        name = OUTSIDE if self.outside else self.label
        x, y, z = self.plane.normal.tolist()
        notes = {"for": "strokes", "of": self.label}
        points = tuple(map(tuple, corners.tolist()))
        return Mark("polyline", points, 0, (x, y, z), place=self.place, name=name, colour=self.colour, notes=notes)

    def finish(self) -> None:
        self.marks.show_live(None)
        if len(self.line) < 2:
            self.strokes.go_on()
            return
        title = f"Stroke {'outside' if self.outside else 'inside'} “{self.label}”"
        marks = {**self.strokes.renamed(self.label), 0: self._made()}
        if self.marks.keep(title, marks, self.of, self.image):
            entry = self.marks.study.history.to_undo()
            self.strokes.find(self.label, 0 if entry is None else entry.id)

    def cancel(self) -> None:
        super().cancel()
        self.strokes.go_on()


def _start(event: ToolEvent) -> Gesture | None:
    if not can_draw(event.desk):
        return None
    try:
        return ObjectStroke(event)
    except Trouble as trouble:
        event.desk.session.trouble.emit(str(trouble))
        return None


register(
    Tool(
        "strokes",
        "Strokes",
        "strokes",
        "Drag a stroke inside a structure, and with Alt one outside it: what belongs to the chosen label is found, and"
        " more strokes mend it.",
        _start,
        ("Outline",),
        order=7,
        more="scribble random walker graph cut geodesic object interactive segmentation",
    )
)
