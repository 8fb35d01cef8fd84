"""A drag of a side of the box that the Solid view is cropped to, in a pane."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF

from ...scene.crop_box import Ends, Side, moved, taken_in_plane
from ...scene.view import View
from .canvas import Canvas


def flat_view(canvas: Canvas) -> View | None:
    """What a canvas shows, in its page units."""
    view = canvas.current_view()
    if view is None:
        return None
    scale = canvas.devicePixelRatioF()
    return view.moved(pixel=view.pixel * scale, width=canvas.width(), height=canvas.height())


class CropEdge:
    """The drag of one side."""

    def __init__(self, canvas: Canvas, side: Side):
        self.canvas, self.side, self.record = canvas, side, canvas.sight.record

    @classmethod
    def at(cls, canvas: Canvas, point: QPointF) -> CropEdge | None:
        """The drag that begins at a point of a canvas; None when no handle is there."""
        crop, view = canvas.crop, flat_view(canvas)
        side = taken_in_plane(view, crop, point.x(), point.y()) if crop is not None and view is not None else None
        return cls(canvas, side) if side is not None else None

    def move(self, point: QPointF) -> None:
        canvas, crop, view = self.canvas, self.canvas.crop, flat_view(self.canvas)
        if crop is None or view is None or canvas.sight.record is not self.record:
            return  # taken away meanwhile, or it is the box of another image
        place = np.asarray(view.to_world(point.x() - 0.5, point.y() - 0.5))
        box: Ends = moved(crop, self.side, float(place[self.side[0]]))
        canvas.desk.solid.change(crop=box)
