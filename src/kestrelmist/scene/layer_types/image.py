"""Images as layers: values under each pixel, coloured."""

from __future__ import annotations

import numpy as np

from ...core.image import Image
from ..colouring import over_colours, over_light, over_values
from ..colours import colour_table
from ..first_look import first_look, over_look, over_opacity
from ..layer import ImageLook
from ..layer_type import Drawn, LayerType, register
from ..sampling import sample_colours, sample_values
from ..side_light import light_from_the_side
from ..slab import slab_values
from ..tiles import inner, tiles_of
from ..view import View


def _first(image: Image, over: bool) -> tuple[ImageLook, float]:
    if not over:
        return first_look(image), 1.0
    look = over_look(image)
    return look, over_opacity(look)


def _pixels(view: View, layer: Drawn, out: np.ndarray) -> None:
    look = layer.look
    tiles = None if look.channels else tiles_of(layer.thing)
    if tiles is None:
        _draw(view, layer, look, out)
        return
    if not tiles.whole(view):
        _draw(view, layer, look, out)
    for piece, box in tiles.pieces(view):
        left, top, right, bottom = box
        part = np.ascontiguousarray(out[top:bottom, left:right])
        _draw(inner(view, box), Drawn(piece, look, layer.opacity), look, part)
        out[top:bottom, left:right] = part


def _draw(view: View, layer: Drawn, look: ImageLook, out: np.ndarray) -> None:
    thing = layer.thing
    if look.channels and layer.channels:
        found = [sample_values(view, one, look.smooth) for one in layer.channels]
        over_light(found, look.channels, layer.opacity, out)
    elif thing.colour:  # limits and colour maps are for measured values
        over_colours(sample_colours(view, thing, look.smooth), layer.opacity, out)
    else:
        values = _sampled(view, thing, look)
        for sign, one in look.sides():
            table = colour_table(one.colour_map, one.inverted)
            over_values(values, one, table, layer.opacity, out, sign)
        light_from_the_side(values, view.pixel, look.light * layer.opacity, look.steep, out)


def _sampled(view: View, image: Image, look: ImageLook) -> np.ndarray:
    if look.slab > 0 and image.space.flat_axis is None:
        return slab_values(view, image, look.slab, look.slab_way, look.smooth)
    return sample_values(view, image, look.smooth)


def _values(view: View, layer: Drawn) -> np.ndarray | None:
    return None if layer.thing.colour else sample_values(view, layer.thing, True)


register(LayerType("image", Image, ImageLook, _first, _pixels, values=_values, leads=True))
