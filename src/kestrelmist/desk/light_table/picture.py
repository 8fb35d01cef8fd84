"""The pixels of one pane, drawn anew only where something has changed."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ...scene.compare import Comparison, draw_compared
from ...scene.drawing import draw, draw_over
from ...scene.layer import ImageLook
from ...scene.view import View
from ..layers import Layers
from ..viewing import Viewing


class Picture:
    """A brush changes labels only: what lies below them is drawn once and kept."""

    def __init__(self) -> None:
        self.stale = True
        self._pixels: np.ndarray | None = None
        self._below: np.ndarray | None = None
        self._known: tuple | None = None

    def pixels(self, view: View, viewing: Viewing, layers: Layers, tint: tuple[float, float] | None) -> np.ndarray:
        """The picture of a view (height, width) as packed colours: the lead image, what lies over it, and labels;
        `tint` lights up a range of the lead image's values."""
        if not self.stale and self._pixels is not None and self._pixels.shape == (view.height, view.width):
            return self._pixels
        look: ImageLook | None = viewing.look
        if look is not None and tint is not None:
            look = replace(look, tint=tint)
        lower, upper = viewing.drawn_image(look), layers.drawn()
        how = layers.comparison if upper else Comparison()
        below = (view, how, *lower, None, *upper)  # held, so that no other image takes the place of one that has gone
        if self._known != below:
            self._below = draw(view, lower, self._below) if not upper else draw_compared(view, lower, upper, how)
            self._known = below
        assert self._below is not None
        self._pixels = self._below.copy()
        draw_over(view, viewing.drawn_labels(), self._pixels)
        self.stale = False
        return self._pixels

    def forget(self) -> None:
        """Draw everything anew: kernels are loaded now, or the image lies elsewhere."""
        self.stale, self._known = True, None
