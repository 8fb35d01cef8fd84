"""Drags that belong to no tool: of the part in view in the navigator, and of the line of a swipe."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF

from ...scene.pieces import navigator_frame
from .canvas import Canvas

NEAR = 6
"""Pixels to the swipe's line that count as on it."""


class Navigating:
    """A drag of the part in view, or of the swipe's line."""

    def __init__(self, canvas: Canvas, swipe: bool):
        self.canvas, self.swipe = canvas, swipe

    @classmethod
    def at(cls, canvas: Canvas, point: QPointF) -> Navigating | None:
        """The drag that begins at a point of a canvas; None when nothing is there."""
        view, record = canvas.current_view(), canvas.sight.record
        if view is None or record is None:
            return None
        scale = canvas.devicePixelRatioF()
        flat = view.moved(pixel=view.pixel * scale, width=canvas.width(), height=canvas.height())
        frame = navigator_frame(flat, record.grid)
        if frame is not None and QRectF(*frame[0]).contains(point):
            found = cls(canvas, False)
            found.move(point)
            return found
        how = canvas.sight.comparison
        if how.way == "swipe" and abs(point.x() - (1 - how.share) * canvas.width()) <= NEAR:
            return cls(canvas, True)
        return None

    def move(self, point: QPointF) -> None:
        canvas = self.canvas
        view, record = canvas.current_view(), canvas.sight.record
        if view is None or record is None:
            return
        if self.swipe:
            share = 1 - min(max(point.x() / max(canvas.width(), 1), 0.0), 1.0)
            canvas.desk.layers.compare_by(share=share)
            return
        scale = canvas.devicePixelRatioF()
        flat = view.moved(pixel=view.pixel * scale, width=canvas.width(), height=canvas.height())
        frame = navigator_frame(flat, record.grid)
        if frame is None:
            return
        whole = QRectF(*frame[0])
        corners = record.grid.corners()
        right, down = np.asarray(view.rightward), np.asarray(view.downward)
        along, below = corners @ right, corners @ down
        at = np.array([(point.x() - whole.left()) / whole.width(), (point.y() - whole.top()) / whole.height()])
        at = np.clip(at, 0.0, 1.0)
        centre = np.asarray(view.centre)
        wanted = along.min() + at[0] * np.ptp(along), below.min() + at[1] * np.ptp(below)
        moved = centre + right * (wanted[0] - centre @ right) + down * (wanted[1] - centre @ down)
        canvas.look_at(view.moved(centre=tuple(moved.tolist())))
        canvas.view_moved.emit()
