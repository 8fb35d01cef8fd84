"""Frame an area: a drag frames a box on a picture, for the operations that keep or blank it."""

from __future__ import annotations

import numpy as np

from ..desk_model import Desk
from ..hand import FramedArea
from ..tool import Gesture, Tool, ToolEvent, register


class Framing(Gesture):
    """The box from the press to the pointer, in whole pixels."""

    def __init__(self, event: ToolEvent):
        self.start = np.asarray(event.world)

    def move(self, event: ToolEvent) -> None:
        record = event.desk.viewing.record
        if record is None:
            return
        space = record.grid
        a, b = (space.to_voxel(p)[:2] + 0.5 for p in (self.start, event.world))
        low = np.clip(np.floor(np.minimum(a, b)), 0, space.shape[:2]).astype(int)
        high = np.clip(np.ceil(np.maximum(a, b)), 0, space.shape[:2]).astype(int)
        size = high - low
        event.desk.hand.set_framed(FramedArea(*map(int, low), *map(int, size)) if size.min() > 0 else None)


def framed_corners(desk: Desk) -> list[np.ndarray]:
    """World positions of the corners of the framed area, on the crosshair's slice; empty when nothing is framed."""
    area, record = desk.hand.framed, desk.viewing.record
    if area is None or record is None:
        return []
    space = record.grid
    k = float(space.to_voxel(desk.viewing.crosshair)[2])
    left, top = area.column - 0.5, area.row - 0.5
    right, bottom = left + area.columns, top + area.rows
    return [space.to_world((i, j, k)) for i, j in ((left, top), (right, top), (right, bottom), (left, bottom))]


register(
    Tool(
        "frame",
        "Frame an area",
        "square",
        "Drag a box over a picture; operations then keep it or blank it.",
        Framing,
        ("Gather",),
        offered=False,
        order=9,
    )
)
