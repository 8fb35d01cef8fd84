"""Frame an area or a box: a drag in a pane frames what lies between press and pointer, along the two axes seen there; a
drag that begins at an edge moves that edge alone."""

from __future__ import annotations

import numpy as np

from ...core.geometry.grid_box import GridBox
from ...core.space import Space
from ...scene.view import View
from ..models.asked_marks import FRAME
from ..tool import Gesture, Tool, ToolEvent, register
from .marks import OnMarks, can_draw

NEAR = 7.0
"""Pixels within which an edge is taken hold of."""


def axis_across(space: Space, view: View) -> int:
    """The grid's axis that runs most nearly straight through the picture."""
    normal = np.cross(view.right, view.down)
    return int(np.abs(normal @ (space.affine[:3, :3] / np.array(space.spacing))).argmax())


class Framing(OnMarks):
    """The box from the press to the pointer, in whole voxels, or one edge of the box that was there."""

    def __init__(self, event: ToolEvent):
        super().__init__(event)
        self.before, self.frame = self.desk.asked.framed, self.desk.asked.frame or 0
        record = event.desk.viewing.record
        assert record is not None
        self.grid = record.grid
        self.edge = None if self.before is None else self._edge_near(self.before, event)

    def _edge_near(self, box: GridBox, event: ToolEvent) -> tuple[int, int] | None:
        """Axis and end (0 or 1) of the edge at the press; None when there is none near."""
        across, at = axis_across(self.grid, event.view), self.grid.to_voxel(self.start)
        ends = np.array(box.first) - 0.5, np.array(box.last) + 0.5
        reach = NEAR * event.view.pixel / np.array(self.grid.spacing)
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
        shape, across = np.array(self.grid.shape), axis_across(self.grid, event.view)
        start, end = (self.grid.to_voxel(p) + 0.5 for p in (self.start, event.world))
        box = self.before or GridBox((0, 0, 0), tuple(int(n) - 1 for n in shape))  # type: ignore[arg-type]
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
        if (last < first).any():  # nothing lies in between
            self.show(None)
            return
        (i, j, k), (m, n, o) = map(int, first), map(int, last)
        framed = GridBox((i, j, k), (m, n, o))
        self.show(framed.as_mark(self.grid, id=self.frame, name="Frame", notes=dict(FRAME)))

    def finish(self) -> None:
        mark = self.mark
        if mark is not None and self.desk.asked.framed != self.before:
            self.desk.asked.keep_frame(mark, self.of, self.image)
        self.marks.show_live(None)


def _start(event: ToolEvent) -> Gesture | None:
    return Framing(event) if can_draw(event.desk) else None


register(
    Tool(
        "frame",
        "Frame an area",
        "square",
        "Drag a box over a pane, or drag one of its edges; operations then keep it or blank it.",
        _start,
        ("Gather", "Prepare"),
        offered=False,
        order=9,
        more="rectangle box crop area select",
    )
)
