"""An area that is tinted, to point it out."""

from __future__ import annotations

from ..shape import Shape, register
from . import rectangle

register(
    Shape(
        "highlight",
        "Highlighted area",
        4,
        4,
        "drag",
        rectangle.begun,
        closed=True,
        handles=rectangle.handles,
        pulled=rectangle.pulled,
        sizes=rectangle.sizes,
        sized=rectangle.sized,
        filled=True,
        icon="highlight",
        order=32,
        more="shade mark emphasise annotation",
        hint="Drag from corner to corner of what is to stand out.",
    )
)
