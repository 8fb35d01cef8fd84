"""Marks brought into another space through transforms."""

from __future__ import annotations

from dataclasses import replace

from ..core.chain import in_a_row
from ..core.errors import Trouble
from ..core.geometry.marks import Marks
from ..core.mapping import Mapping
from ..core.operation import operation


@operation(
    "measure",
    "Bring marks through transforms",
    name="apply-to-marks",
    keywords="apply transform points landmarks warp coordinates map positions convert",
    group="Marks",
    methods="Marks were brought through transforms",
)
def apply_to_marks(marks: Marks, transform: list[Mapping]) -> Marks:
    """Bring marks to where transforms lead from their places, one after the other.

    Parameters
    ----------
    transform : transforms
        The first one starts where the marks lie. A transform as ITK has it takes places of the fixed image to places of
        the moving one.

    Raises
    ------
    Trouble
        When they do not meet, the first starts from another space, or a mark lies where one says nothing.
    """
    way = in_a_row(transform, marks.world)
    try:
        moved = marks.moved(way)
    except Trouble as trouble:
        what = f"A mark of “{marks.name}” lies where “{way.name}” says nothing, or in another space"
        raise Trouble(what, "leave it out, or use another transform") from trouble
    return replace(moved, name=f"{marks.name}, {way.name}", classes=marks.classes)
