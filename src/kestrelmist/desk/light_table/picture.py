"""The pixels of one pane, drawn anew only where something has changed."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from ...scene.compare import draw_compared
from ...scene.drawing import draw, draw_over
from ...scene.layer_type import Drawn
from ...scene.tiles import tiles_of
from ...scene.view import View

if TYPE_CHECKING:
    from ..models.sight import Parts


class Picture:
    """A brush changes labels only: what lies below them is drawn once and kept. A step in one pane changes the picture
    of that pane only.

    `stale` says that something may have changed, `touched` that labels have.
    """

    def __init__(self) -> None:
        self.stale = self.touched = True
        self._labels: tuple = ()
        self._pixels: np.ndarray | None = None
        self._below: np.ndarray | None = None
        self._known: tuple | None = None
        self._lower: tuple[tuple, np.ndarray] | None = None
        """What lies lowest, drawn by itself: it stays while what lies over it is moved, faded or wiped."""

    def pixels(self, view: View, parts: Parts) -> np.ndarray:
        """The picture of a view (height, width) as packed colours."""
        if not self.stale and self._pixels is not None and self._pixels.shape == (view.height, view.width):
            return self._pixels
        lower, upper, how = parts.lower, parts.upper, parts.how
        pieces = [t.revision for one in (*lower, *upper) if (t := tiles_of(one.thing)) is not None]
        below = (
            view,
            how,
            *lower,
            None,
            *upper,
            *pieces,
        )  # held, so that no other image takes the place of one that has gone
        labels = tuple(parts.labels)
        if self._known == below and self._labels == labels and not self.touched and self._pixels is not None:
            self.stale = False
            return self._pixels
        if self._known != below:
            if upper:
                self._below = draw_compared(view, lower, upper, how, self._drawn_lower(view, lower))
            else:
                self._below, self._lower = draw(view, lower, self._below), None
            self._known = below
        assert self._below is not None
        self._pixels = self._below.copy()
        draw_over(view, parts.labels, self._pixels)
        self.stale = self.touched = False
        self._labels = labels
        return self._pixels

    def _drawn_lower(self, view: View, lower: Sequence[Drawn]) -> np.ndarray:
        pieces = [t.revision for one in lower if (t := tiles_of(one.thing)) is not None]
        known = (view, *lower, *pieces)
        if self._lower is None or self._lower[0] != known:
            self._lower = known, draw(view, lower)
        return self._lower[1]

    def forget(self) -> None:
        """Draw everything anew: kernels are loaded now, or the image lies elsewhere."""
        self.stale = self.touched = True
        self._known = self._lower = None
