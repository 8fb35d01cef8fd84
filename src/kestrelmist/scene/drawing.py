"""Drawing a stack of layers: each is sampled at the view's pixels and coloured over what is there."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from ..core.image import Image
from ..core.labels import LabelMap
from .colouring import BACKGROUND
from .layer import ImageLook, LabelLook
from .layer_type import Drawn, type_of_thing
from .view import View


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
    """Draw layers over a picture (height, width) of packed colours; those that are primitives are left to painters."""
    for layer in layers:
        draws = type_of_thing(layer.thing).pixels
        if draws is not None:
            draws(view, layer, out)


def warm(whole: bool = True) -> None:
    """Compile or load the kernels that draw.

    Parameters
    ----------
    whole : bool
        For every number type, and for colours; otherwise for what the first pane of a volume needs.
    """
    from ..core.displacement import DisplacementField
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
            bent = image.like(image.data)
            bent.through = DisplacementField(np.zeros((2, 2, 2, 3), np.float32), Space((2, 2, 2), np.eye(4)))
            draw(view, [Drawn(bent, ImageLook(0, 1))])
    if whole:
        flat = Image(np.zeros((200, 200, 1), np.float32), Space((200, 200, 1), np.eye(4)))
        draw(plane_view(AXIAL, (100, 100, 0), 1.0, 210, 210), [Drawn(flat, ImageLook(0, 1, light=0.5, steep=1.0))])
        for tilt in (np.eye(4), tilted):
            colours = Image(np.zeros((4, 4, 4, 3), np.uint8), Space((4, 4, 4), tilt), colour=True)
            draw(plane_view(AXIAL, (1, 1, 1), 0.05, 210, 200), [Drawn(colours, ImageLook(0, 255))])
        colours.through = labels.through = bent.through
        draw(view, [Drawn(colours, ImageLook(0, 255)), Drawn(labels, LabelLook())])
