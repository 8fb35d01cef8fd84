"""Draw a section: a drag draws a line over the picture; a drag at one of its ends moves that end, one between them the
whole line."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Qt

from ..sections import Sections
from ..tool import Gesture, Tool, ToolEvent, register

NEAR = 9.0
"""Pixels within which an end or the line is taken hold of."""


def part_near(event: ToolEvent, start, end) -> str:
    """What of a line lies under the hand: "start", "end", "line" or ""."""
    view = event.view
    point, a, b = (np.array(view.to_pixel(w)) for w in (event.world, start, end))
    for name, at in (("start", a), ("end", b)):
        if np.hypot(*(point - at)) <= NEAR:
            return name
    way = b - a
    length = float(way @ way)
    share = float((point - a) @ way) / length if length else -1.0
    return "line" if 0 < share < 1 and np.hypot(*(point - a - share * way)) <= NEAR else ""


class DrawingSection(Gesture):
    """A line from the press to the pointer, or one that is moved."""

    def __init__(self, event: ToolEvent):
        self.desk = event.desk
        self.sections: Sections = event.desk.sections
        self.before = self.sections.line, self.sections.cursors
        line = self.sections.line
        self.part = part_near(event, line.start, line.end) if line is not None else ""
        self.origin = np.asarray(event.world, float)

    def move(self, event: ToolEvent) -> None:
        line, at = self.before[0], np.asarray(event.world, float)
        if line is None or not self.part:
            self.sections.set_line(self.origin, self._straight(at, self.origin, event))
        elif self.part == "line":
            moved = at - self.origin
            self.sections.set_line(np.add(line.start, moved), np.add(line.end, moved))
        else:
            ends = {"start": np.array(line.start), "end": np.array(line.end)}
            ends[self.part] = self._straight(at, ends["end" if self.part == "start" else "start"], event)
            self.sections.set_line(ends["start"], ends["end"])

    def _straight(self, at: np.ndarray, other: np.ndarray, event: ToolEvent) -> np.ndarray:
        """With Shift, a line that runs straight across or down the picture."""
        if not event.modifiers & Qt.KeyboardModifier.ShiftModifier:
            return at
        across, down = event.view.right / event.view.pixel, event.view.down / event.view.pixel
        moved = at - other
        way = across if abs(moved @ across) >= abs(moved @ down) else down
        return other + (moved @ way) * way

    def key(self, key: Qt.Key) -> bool:
        if key == Qt.Key.Key_Escape:
            self.desk.hand.cancel_gesture()
            return True
        return False

    def cancel(self) -> None:
        """The line is again what it was before the press."""
        self.sections.put_line(*self.before)


register(
    Tool(
        "section",
        "Draw a section",
        "ruler",
        "Drag a line over the picture; drag its ends or the line to move it. Shift, held while you drag, keeps it"
        " straight.",
        DrawingSection,
        offered=False,
        order=11,
        more="line profile draw a line cross section ruler measure distance",
    )
)
