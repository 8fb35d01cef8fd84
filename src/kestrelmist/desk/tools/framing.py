"""Frame an area or a box: a drag in a pane frames what lies between press and pointer, along the two axes seen there; a
drag that begins at an edge moves that edge alone."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Qt

from ...core.space import Space
from ...scene.view import View
from ..models.desk_model import Desk
from ..models.hand import FramedBox
from ..tool import Gesture, Tool, ToolEvent, register

NEAR = 7.0
"""Pixels within which an edge is taken hold of."""


def axis_across(space: Space, view: View) -> int:
    """The grid's axis that runs most nearly straight through the picture."""
    normal = np.cross(view.right, view.down)
    return int(np.abs(normal @ (space.affine[:3, :3] / np.array(space.spacing))).argmax())


class Framing(Gesture):
    """The box from the press to the pointer, in whole voxels, or one edge of the box that was there."""

    def __init__(self, event: ToolEvent):
        self.start, self.hand = np.asarray(event.world), event.desk.hand
        self.before = self.hand.framed
        record = event.desk.viewing.record
        self.edge = None if record is None or self.before is None else self._edge_near(record.grid, event)

    def _edge_near(self, space: Space, event: ToolEvent) -> tuple[int, int] | None:
        """Axis and end (0 or 1) of the edge at the press; None when there is none near."""
        assert self.before is not None
        across, at = axis_across(space, event.view), space.to_voxel(self.start)
        ends = np.array(self.before.first) - 0.5, np.array(self.before.last) + 0.5
        reach = NEAR * event.view.pixel / np.array(space.spacing)
        along = [n for n in range(3) if n != across]
        found = None
        for axis, other in (along, along[::-1]):
            if not ends[0][other] - reach[other] <= at[other] <= ends[1][other] + reach[other]:
                continue
            for end in (0, 1):
                away = abs(at[axis] - ends[end][axis]) / reach[axis]
                if away <= 1 and (found is None or away < found[0]):
                    found = away, (axis, end)
        return None if found is None else found[1]

    def move(self, event: ToolEvent) -> None:
        record = event.desk.viewing.record
        if record is None:
            return
        space = record.grid
        shape, across = np.array(space.shape), axis_across(space, event.view)
        start, end = (space.to_voxel(p) + 0.5 for p in (self.start, event.world))
        box = self.before or FramedBox((0, 0, 0), tuple(int(n) - 1 for n in shape))  # type: ignore[arg-type]
        first, last = np.array(box.first), np.array(box.last)
        if self.edge is not None:
            axis, which = self.edge
            to = int(np.clip(np.round(end[axis]), 0, shape[axis]))
            first[axis], last[axis] = (to, last[axis]) if which == 0 else (first[axis], to - 1)
        else:
            for axis in range(3):
                if axis != across:
                    low, high = sorted((start[axis], end[axis]))
                    first[axis] = int(np.clip(np.floor(low), 0, shape[axis]))
                    last[axis] = int(np.clip(np.ceil(high), 0, shape[axis])) - 1
        (i, j, k), (m, n, o) = map(int, first), map(int, last)
        framed = FramedBox((i, j, k), (m, n, o)) if (last >= first).all() else None
        event.desk.hand.set_framed(framed if framed is not None or self.edge is None else self.before)

    def key(self, key: Qt.Key) -> bool:
        if key == Qt.Key.Key_Escape:
            self.hand.cancel_gesture()
            return True
        return False

    def cancel(self) -> None:
        """The box is again what it was before the press."""
        self.hand.set_framed(self.before)


def framed_corners(desk: Desk, view: View) -> list[np.ndarray]:
    """World positions of the corners of the framed box in the crosshair's slice of a pane; empty when nothing is framed
    there."""
    box, record = desk.hand.framed, desk.viewing.record
    if box is None or record is None:
        return []
    space = record.grid
    across, here = axis_across(space, view), space.to_voxel(desk.viewing.crosshair)
    if not box.first[across] - 0.5 <= here[across] <= box.last[across] + 0.5:
        return []
    a, b = (n for n in range(3) if n != across)
    low, high = np.array(box.first) - 0.5, np.array(box.last) + 0.5
    corners = []
    for p, q in ((low[a], low[b]), (high[a], low[b]), (high[a], high[b]), (low[a], high[b])):
        voxel = here.copy()
        voxel[a], voxel[b] = p, q
        corners.append(space.to_world(voxel))
    return corners


register(
    Tool(
        "frame",
        "Frame an area",
        "square",
        "Drag a box over a pane, or drag one of its edges; operations then keep it or blank it.",
        Framing,
        ("Gather", "Prepare"),
        offered=False,
        order=9,
        more="rectangle box crop area select",
    )
)
