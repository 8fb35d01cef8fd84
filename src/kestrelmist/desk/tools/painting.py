"""Brush and eraser: paint along the drag; the step is kept when the button goes up."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Qt

from ...core.errors import Trouble
from ...outline.brush import Brush, Stroke
from ...scene.pieces import brush
from ...scene.primitives import Primitive
from ...scene.view import View
from ...study.journal.logbook import BY_HAND, Step, Thing
from ..models.desk_model import Desk
from ..tool import Gesture, Tool, ToolEvent, register, tool_named


class Painting(Gesture):
    """One stroke on the label map that is seen when it begins, whatever is chosen meanwhile."""

    def __init__(self, event: ToolEvent, erases: bool):
        hand, viewing = event.desk.hand, event.desk.viewing
        self.desk, self.erases = event.desk, erases
        self.label, self.settings = hand.require_label(), hand.settings
        record, labels, image = viewing.record, viewing.maps.labels, viewing.image
        assert record is not None and labels is not None and image is not None
        self.record = record
        ranged = self.settings.only_in_range and not erases
        limits = (self.settings.low, self.settings.high) if ranged else (None, None)
        self.stroke = Stroke(
            image.grey(),
            labels,
            Brush(self.settings.size, self.settings.shape, *limits, over=self._over(labels)),
            0 if erases else self.label.number,
            tuple(float(v) for v in event.view.normal),  # type: ignore[arg-type]
            erase_only=self.label.number if erases else 0,
        )
        self.move(event)

    def _over(self, labels) -> int | None:
        """What is painted over alone; everything when that label is there no more."""
        over = self.settings.over
        return over if not self.erases and (over == 0 or over in labels.table) else None

    def move(self, event: ToolEvent) -> None:
        if self.stroke.to(event.world):
            self.desk.viewing.maps.changed.emit()

    def finish(self) -> None:
        title = f"{tool_named('eraser' if self.erases else 'brush').title} “{self.label.name}”"
        edit = self.stroke.finish(title)
        if edit.empty:
            return
        record = self.record
        image = Thing("image", record.name, record.subject, "", (), record.id, record.hash)
        settings = {
            "size": self.settings.size,
            "shape": self.settings.shape,
            "voxels": edit.patch.voxels if edit.patch else 0,
        }
        step = Step(BY_HAND, title, settings, {"image": (image,)})
        self.desk.session.keep_stroke(self.stroke.labels, edit, step)

    def cancel(self) -> None:
        edit = self.stroke.finish()
        if not edit.empty:
            edit.reversed().apply(self.stroke.labels)
            self.desk.viewing.maps.changed.emit()

    def key(self, key: Qt.Key) -> bool:
        if key == Qt.Key.Key_Escape:
            self.desk.hand.cancel_gesture()
            return True
        return False


def _start(event: ToolEvent, erases: bool) -> Gesture | None:
    try:
        return Painting(event, erases)
    except Trouble as trouble:
        event.desk.session.trouble.emit(str(trouble))
        return None


def _hover(erases: bool):
    def draw(view: View, desk: Desk, world: np.ndarray) -> list[Primitive]:
        return [] if desk.hand.label is None else brush(view, world, desk.hand.settings.size, erases)

    return draw


PAINTS = "segmentation paint draw manual segmentation size segment mask contour label"
for name, title, hint, erases, groups, more in (
    ("brush", "Brush", "Drag to paint the chosen label.", False, ("size", "range"), PAINTS),
    ("eraser", "Eraser", "Drag to take the chosen label away. Other labels stay.", True, ("size",), "rubber remove"),
):
    register(
        Tool(
            name,
            title,
            name,
            f"{hint} Esc takes the stroke back.",
            lambda event, erases=erases: _start(event, erases),
            ("Outline",),
            groups,
            Qt.CursorShape.BlankCursor,
            _hover(erases),
            order=1 + erases,
            more=more,
        )
    )
