"""The navigator: the whole image small, with the part in view, when a pane shows only some of it; it can be dragged. So
can the line of a swipe."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, QRectF

from ...core.space import Space
from ...scene.view import View

if TYPE_CHECKING:
    from .canvas import Canvas

SIDE = 120
"""Longest side of the navigator, in pixels; a third of a small pane."""
MARGIN = 10
TOP = 30
NEAR = 6
"""Pixels to the swipe's line that count as on it."""


def navigator_frame(view: View, grid: Space) -> tuple[QRectF, QRectF] | None:
    """Where the whole image and the part in view are drawn, at the upper right; None when all of it is in view.

    `view` has the canvas' size; positions are in its pixels.
    """
    corners = grid.corners()
    x, y = corners @ np.asarray(view.rightward), corners @ np.asarray(view.downward)
    corner = view.corner
    left, top = corner @ np.asarray(view.rightward), corner @ np.asarray(view.downward)
    wide, high = np.ptp(x), np.ptp(y)
    if view.pixel * view.width >= wide * 0.999 and view.pixel * view.height >= high * 0.999:
        return None
    longest = min(SIDE, view.width / 3, view.height / 3)
    if longest < 24 or not max(wide, high) > 0:
        return None
    scale = longest / max(wide, high)
    whole = QRectF(view.width - MARGIN - wide * scale - 18, TOP, max(wide * scale, 3), max(high * scale, 3))
    part = QRectF(
        whole.left() + (left - x.min()) * scale,
        whole.top() + (top - y.min()) * scale,
        view.pixel * view.width * scale,
        view.pixel * view.height * scale,
    )
    return whole, part


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
        if frame is not None and frame[0].contains(point):
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
        whole, _ = frame
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
