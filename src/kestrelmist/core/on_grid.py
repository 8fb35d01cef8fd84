"""An image and a label map must share a grid before a tool works on both."""

from __future__ import annotations

from .errors import Trouble
from .image import Image
from .labels import LabelMap


def require_same_grid(image: Image | LabelMap, labels: LabelMap) -> None:
    """Raises Trouble when the label map was not made on the image's grid."""
    if not image.space.same_grid(labels.space):
        raise Trouble(
            f"The labels “{labels.name}” lie on another grid than “{image.name}”",
            "choose the label map that was made on this image",
        )
