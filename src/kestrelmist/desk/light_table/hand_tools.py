"""Tools that need a hand on the picture. Each turns a press, a drag and a release into one undoable step."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import Qt

from ...core.errors import Trouble
from ...outline.brush import Brush, Stroke
from ...scene.view import Plane
from ..framed_area import FramedArea


@dataclass(frozen=True)
class HandTool:
    """Does nothing by itself; the pane moves the crosshair."""

    name: str
    title: str
    icon: str
    hint: str
    cursor: Qt.CursorShape = Qt.CursorShape.CrossCursor
    has_size: bool = False
    erases: bool = False
    needs_label: bool = False

    def press(self, canvas, world) -> None: ...

    def move(self, canvas, world) -> None: ...

    def release(self, canvas) -> None: ...

    def _label(self, desk):
        desk.require_writable()
        desk.require_labels_free()
        if desk.label is None:
            raise Trouble("There is no label to work on", "make one with “New label”")
        desk.labels.require_unlocked(desk.label)
        return desk.label


class BrushTool(HandTool):
    """Paints or erases along the drag; the step is kept when the button goes up."""

    def press(self, canvas, world) -> None:
        desk = canvas.desk
        try:
            label = self._label(desk)
            settings = desk.settings
            ranged = settings.only_in_range and not self.erases
            brush = Brush(settings.size, settings.shape, settings.low if ranged else None, settings.high if ranged else None)
            canvas.stroke = Stroke(desk.image.grey(), desk.labels, brush, 0 if self.erases else label.number, _normal(canvas.plane),
                                   erase_only=label.number if self.erases else 0)
        except Trouble as trouble:
            desk.trouble.emit(str(trouble))
            return
        self.move(canvas, world)

    def move(self, canvas, world) -> None:
        if canvas.stroke is not None and canvas.stroke.to(world):
            canvas.desk.labels_changed.emit()

    def release(self, canvas) -> None:
        stroke, canvas.stroke = canvas.stroke, None
        if stroke is None:
            return
        desk = canvas.desk
        edit = stroke.finish(f"{self.title} “{desk.label.name}”")
        if edit.empty:
            return
        desk.edit_labels(edit, True, {"size": desk.settings.size, "shape": desk.settings.shape, "voxels": edit.patch.voxels})


class GrowTool(HandTool):
    """A click fills what is joined to it; inside the label itself it keeps only what is joined."""

    def press(self, canvas, world) -> None:
        desk = canvas.desk
        try:
            label = self._label(desk)
        except Trouble as trouble:
            desk.trouble.emit(str(trouble))
            return
        settings = desk.settings
        inside = desk.labels.at(world) == label.number
        desk.run("grow", {"label": label.name, "point": tuple(float(v) for v in world), "low": settings.low, "high": settings.high,
                          "neighbours": settings.neighbours, "through": "label" if inside else "range"})


class FrameTool(HandTool):
    """A drag frames an area of a picture, for the tools that keep or blank it."""

    def press(self, canvas, world) -> None:
        canvas.stroke = np.asarray(world)

    def move(self, canvas, world) -> None:
        if canvas.stroke is None:
            return
        space = canvas.desk.record.space
        a, b = (space.to_voxel(p)[:2] + 0.5 for p in (canvas.stroke, world))
        low = np.clip(np.floor(np.minimum(a, b)), 0, space.shape[:2]).astype(int)
        high = np.clip(np.ceil(np.maximum(a, b)), 0, space.shape[:2]).astype(int)
        size = high - low
        canvas.desk.set_framed(FramedArea(*map(int, low), *map(int, size)) if size.min() > 0 else None)

    def release(self, canvas) -> None:
        canvas.stroke = None


def _normal(plane: Plane) -> tuple[float, float, float]:
    return tuple(1.0 if n == plane.across else 0.0 for n in range(3))


TOOLS = (
    HandTool("point", "Point", "crosshair", "Click to move the crosshair, wheel to step through slices, Ctrl+wheel to zoom,"
             " drag with the middle button to pan and with the right one for the display range."),
    BrushTool("brush", "Brush", "brush", "Drag to paint the chosen label.", Qt.CursorShape.BlankCursor, True, False, True),
    BrushTool("eraser", "Eraser", "eraser", "Drag to take the chosen label away. Other labels stay.", Qt.CursorShape.BlankCursor, True, True, True),
    GrowTool("grow", "Grow from point", "sprout", "Click in a structure: all that is joined to it in range gets the label."
             " Click inside the label: only the part joined there is kept.", Qt.CursorShape.CrossCursor, False, False, True),
    FrameTool("frame", "Frame an area", "square", "Drag a box over a picture; tools then keep it or blank it."),
)


def hand_tool(name: str) -> HandTool:
    return next(t for t in TOOLS if t.name == name)
