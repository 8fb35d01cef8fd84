"""Two pictures of one view compared: one over the other, faded, wiped, in squares, or by its edges."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from .colours import packed
from .drawing import draw, draw_over
from .layer_type import Drawn, type_of_thing
from .view import View

WAYS = ("over", "fade", "swipe", "squares", "edges")


@dataclass(frozen=True)
class Comparison:
    """How the upper layers are seen over the lower ones.

    Parameters
    ----------
    way : str
        One of WAYS.
    share : float
        Of "fade", how much of the upper ones is seen, and of "swipe", how much of the width they take from the right;
        0 to 1.
    square : mm
        Side of the squares, which stand still in the world.
    edge_colour : str
        Of "edges".
    """

    way: str = "over"
    share: float = 0.5
    square: float = 5.0
    edge_colour: str = "#F0B263"


def draw_compared(
    view: View, lower: Sequence[Drawn], upper: Sequence[Drawn], how: Comparison, drawn: np.ndarray | None = None
) -> np.ndarray:
    """The picture of a view, uint32 (height, width) of packed colours: `upper` layers compared with `lower` ones.

    Of "edges", those of the upper images are drawn, and their labels as they are. `drawn` is the picture of the lower
    layers alone, when it is there.
    """
    below = draw(view, lower) if drawn is None else drawn.copy()
    if how.way == "edges":
        for layer in upper:
            asks = type_of_thing(layer.thing).values
            values = None if asks is None else asks(view, layer)
            if values is not None:
                below[edges_of(values)] = packed(how.edge_colour)
            else:
                draw_over(view, [layer], below)
        return below
    above = below.copy()
    draw_over(view, upper, above)
    if how.way == "fade":
        return mixed(below, above, how.share)
    if how.way == "swipe":
        edge = round((1 - min(max(how.share, 0.0), 1.0)) * view.width)
        above[:, :edge] = below[:, :edge]
        return above
    if how.way == "squares":
        return np.where(chequered(view, how.square), above, below)
    return above


def mixed(below: np.ndarray, above: np.ndarray, share: float) -> np.ndarray:
    """Packed colours between two pictures."""
    part = int(round(256 * min(max(share, 0.0), 1.0)))
    rest, part_ = np.uint32(256 - part), np.uint32(part)
    # red and blue at once, with room for eight more bits above each; then green
    outer, inner, eight = np.uint32(0xFF00FF), np.uint32(0x00FF00), np.uint32(8)
    both = ((below & outer) * rest + (above & outer) * part_) >> eight & outer
    green = ((below & inner) >> eight) * rest + ((above & inner) >> eight) * part_ & inner
    return both | green | np.uint32(0xFF000000)


def chequered(view: View, square: float) -> np.ndarray:
    """Which pixels lie in every second square of some mm; squares stand still when the view moves."""
    origin = np.asarray(view.corner)
    across = (origin @ view.rightward + view.pixel * np.arange(view.width)) // square
    down = (origin @ view.downward + view.pixel * np.arange(view.height)) // square
    return (across[None, :] + down[:, None]) % 2 == 1


def edges_of(values: np.ndarray, share: float = 0.92) -> np.ndarray:
    """Pixels (height, width) on which an image has its edges: where it changes most across the edge (J. Canny, IEEE
    PAMI 8, 1986, without the following of weak ones), of the steepest `share` of all that change."""
    from scipy import ndimage

    filled = np.where(np.isfinite(values), values, np.float32(0))
    soft = ndimage.gaussian_filter(filled, 1.2)
    down, across = ndimage.sobel(soft, 0), ndimage.sobel(soft, 1)
    steep = np.hypot(down, across)
    # where the image ends there is no edge of what it shows
    steep[ndimage.binary_dilation(~np.isfinite(values), iterations=5, border_value=1)] = 0
    if not steep.any():
        return np.zeros(values.shape, bool)
    least = np.quantile(steep[steep > 0], share)
    flat = np.abs(across) >= np.abs(down)
    padded = np.pad(steep, 1)
    left, right, up, low = padded[1:-1, :-2], padded[1:-1, 2:], padded[:-2, 1:-1], padded[2:, 1:-1]
    highest = np.where(flat, (steep >= left) & (steep > right), (steep >= up) & (steep > low))
    return highest & (steep >= least)
