"""Drawing a stack of layers: each is sampled at the view's pixels and coloured over what is there."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from ..core.image import Image
from ..core.labels import LabelMap
from .colouring import BACKGROUND, over_colours, over_light, over_numbers, over_values
from .colours import colour_table, label_colours
from .layer import ImageLook, LabelLook
from .sampling import sample_colours, sample_numbers, sample_values
from .side_light import light_from_the_side
from .tiles import inner, tiles_of
from .view import View


@dataclass(frozen=True)
class Drawn:
    """A layer with the thing itself at hand."""

    thing: Image | LabelMap
    look: ImageLook | LabelLook
    opacity: float = 1.0
    channels: tuple[Image, ...] = ()
    """Of a picture whose channels are shown together: each of them."""


def draw(view: View, layers: Iterable[Drawn], out: np.ndarray | None = None) -> np.ndarray:
    """Draw layers, the lowest first, on the ground of a pane.

    Returns
    -------
    uint32 array (height, width) of packed colours; `out` itself when given and of that shape.
    """
    shape = (view.height, view.width)
    out = np.empty(shape, np.uint32) if out is None or out.shape != shape else out
    out.fill(BACKGROUND)
    draw_over(view, layers, out)
    return out


def draw_over(view: View, layers: Iterable[Drawn], out: np.ndarray) -> None:
    """Draw layers over a picture (height, width) of packed colours."""
    for layer in layers:
        thing, look = layer.thing, layer.look
        if isinstance(thing, LabelMap):
            assert isinstance(look, LabelLook)
            colours = label_colours(thing.table, look.only)
            edges, opacity = look.edge_width if look.edges else 0, layer.opacity * look.opacity
            over_numbers(sample_numbers(view, thing), colours, look.fill, edges, opacity, out)
            continue
        assert isinstance(look, ImageLook)
        tiles = None if look.channels else tiles_of(thing)
        if tiles is None:
            _draw_image(view, layer, look, out)
            continue
        if not tiles.whole(view):
            _draw_image(view, layer, look, out)
        for piece, box in tiles.pieces(view):
            left, top, right, bottom = box
            part = np.ascontiguousarray(out[top:bottom, left:right])
            _draw_image(inner(view, box), Drawn(piece, look, layer.opacity), look, part)
            out[top:bottom, left:right] = part


def _draw_image(view: View, layer: Drawn, look: ImageLook, out: np.ndarray) -> None:
    thing = layer.thing
    assert isinstance(thing, Image)
    if look.channels and layer.channels:
        found = [sample_values(view, one, look.smooth) for one in layer.channels]
        over_light(found, look.channels, layer.opacity, out)
    elif thing.colour:  # limits and colour maps are for measured values
        over_colours(sample_colours(view, thing, look.smooth), layer.opacity, out)
    else:
        values = sample_values(view, thing, look.smooth)
        for sign, one in look.sides():
            table = colour_table(one.colour_map, one.inverted)
            over_values(values, one, table, layer.opacity, out, sign)
        light_from_the_side(values, view.pixel, look.light * layer.opacity, look.steep, out)


def warm(whole: bool = True) -> None:
    """Compile or load the kernels that draw.

    Parameters
    ----------
    whole : bool
        For every number type, and for colours; otherwise for what the first pane of a volume needs.
    """
    from ..core.space import Space
    from .view import AXIAL, SAGITTAL, plane_view

    tilted = np.array([[1, 0.1, 0, 0], [-0.1, 1, 0, 0], [0, 0, 1, 0], [0, 0, 0, 1.0]])
    kinds = (np.int16, np.float32, np.uint8, np.uint16) if whole else (np.int16, np.float32)
    for kind in kinds:
        for tilt in (np.eye(4), tilted):
            placed = Space((200, 200, 200), tilt)
            image, labels = Image(np.zeros((200, 200, 200), kind, order="F"), placed), LabelMap(placed)
            for plane in (AXIAL, SAGITTAL):
                for shift in (0.0, 0.3):
                    view = plane_view(plane, (100.0 + shift, 100.0 + shift, 100.0 + shift), 1.0, 210, 210)
                    draw(view, [Drawn(image, ImageLook(0, 1)), Drawn(labels, LabelLook())])
    if whole:
        flat = Image(np.zeros((200, 200, 1), np.float32), Space((200, 200, 1), np.eye(4)))
        draw(plane_view(AXIAL, (100, 100, 0), 1.0, 210, 210), [Drawn(flat, ImageLook(0, 1, light=0.5, steep=1.0))])
        for tilt in (np.eye(4), tilted):
            colours = Image(np.zeros((4, 4, 4, 3), np.uint8), Space((4, 4, 4), tilt), colour=True)
            draw(plane_view(AXIAL, (1, 1, 1), 0.05, 210, 200), [Drawn(colours, ImageLook(0, 255))])
