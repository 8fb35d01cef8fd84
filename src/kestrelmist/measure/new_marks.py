"""Another set of marks on an image."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated

from ..core.errors import Trouble
from ..core.geometry.marks import Marks
from ..core.image import Image
from ..core.operation import operation
from ..core.parameter import Role


@operation(
    "measure",
    "New set of marks",
    name="new-marks",
    keywords="add copy duplicate second landmarks annotations contours reader observer",
    takes="series colour",
    group="Marks",
)
def new_marks(image: Annotated[Image, Role("grid")], name: str = "Marks", copy: Marks | None = None) -> Marks:
    """Make another set of marks on an image, empty or as a copy of one; in a study it is taken in hand.

    Parameters
    ----------
    name : text
        Its name; a free one near it when there is one already.
    copy : marks
        The ones to copy; none when left out.

    Raises
    ------
    Trouble
        When the ones to copy lie in another world, or count in another unit.
    """
    space = image.space
    if copy is None:
        return Marks({}, space.world, space.unit, name, image.subject, image.name)
    if copy.world.id != space.world.id or copy.unit != space.unit:
        raise Trouble(f"“{copy.name}” lies in another world than “{image.name}”", "bring the marks to the image")
    return replace(copy, name=name, subject=image.subject, of=image.name)
