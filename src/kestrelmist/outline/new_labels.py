"""Another label map on an image."""

from __future__ import annotations

from typing import Annotated

from ..core.errors import Trouble
from ..core.image import Image
from ..core.labels import LabelMap
from ..core.operation import operation
from ..core.parameter import Role


@operation(
    "outline",
    "New label map",
    name="new-labels",
    keywords="add copy duplicate second",
    takes="series colour",
    group="Label maps",
)
def new_labels(image: Annotated[Image, Role("grid")], name: str = "Labels", copy: LabelMap | None = None) -> LabelMap:
    """Make another label map on an image, empty or as a copy of one; in a study it is taken in hand.

    Parameters
    ----------
    name : text
        Its name; a free one near it when there is one already.
    copy : label map
        The one to copy; empty when left out.

    Raises
    ------
    Trouble
        When the one to copy lies on another grid.
    """
    if copy is None:
        return LabelMap(image.space, name=name, subject=image.subject)
    if not copy.space.same_grid(image.space):
        raise Trouble(f"“{copy.name}” lies on another grid than “{image.name}”", "bring it along onto the image")
    made = copy.copied()
    made.name, made.subject = name, image.subject
    return made
