"""Range of an area: a box dragged in a pane sets the display range of the chosen layer by the values in it."""

from __future__ import annotations

import numpy as np

from ...scene.primitives import CHIP, Path, Primitive, Stroke
from ...scene.ready_looks import range_of_share
from ...scene.sampling import sample_values
from ...scene.view import View
from ..tool import Gesture, Tool, ToolEvent, register

SHARE = (1.0, 99.0)
"""Percentiles of the area's values that become the range."""


class RangeOfArea(Gesture):
    """The box from the press to the pointer."""

    def __init__(self, event: ToolEvent):
        self.desk, self.view = event.desk, event.view
        self.start = self.end = np.asarray(event.world)

    def move(self, event: ToolEvent) -> None:
        self.end = np.asarray(event.world)
        self.desk.hand.gesture_moved.emit()

    def box(self, view: View) -> tuple[float, float, float, float]:
        """Left, top, right and bottom in the pixels of a view."""
        (a, b), (c, d) = view.to_pixel(self.start), view.to_pixel(self.end)
        return min(a, c), min(b, d), max(a, c), max(b, d)

    def over(self, view: View) -> list[Primitive]:
        left, top, right, bottom = self.box(view)
        corners = ((left, top), (right, top), (right, bottom), (left, bottom))
        return [Path(corners, Stroke(CHIP, 1.5, (6, 3)), True)]

    def finish(self) -> None:
        layers = self.desk.layers
        image = layers.image(layers.chosen) if layers.chosen is not None else None
        left, top, right, bottom = (round(v) for v in self.box(self.view))
        if image is None or not image.in_memory or image.colour or right - left < 2 or bottom - top < 2:
            return
        part = sample_values(self.view, image, False)[max(top, 0) : bottom + 1, max(left, 0) : right + 1]
        if not np.isfinite(part).any():
            self.desk.session.trouble.emit("The area holds no values of this layer: drag the box over it.")
            return
        low, high = range_of_share(part, *SHARE)
        layers.set_look(low=low, high=high)
        self.desk.hand.set_tool("point")


register(
    Tool(
        "range-of-area",
        "Range of an area",
        "contrast",
        "Drag a box in a pane: the values in it become the display range of the chosen layer.",
        RangeOfArea,
        offered=False,
        order=8,
        more="auto contrast from a region",
    )
)
