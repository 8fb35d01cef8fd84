"""The navigator: the whole image small, with the part in view, when a pane shows only some of it."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QRectF

from ...core.space import Space
from ...scene.view import View

SIDE = 120
"""Longest side of the navigator, in pixels; a third of a small pane."""
MARGIN = 10
TOP = 30


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
