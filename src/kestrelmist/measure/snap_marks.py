"""Ends of lines brought to edges of the image."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated

import numpy as np

from ..core.errors import Trouble
from ..core.geometry.mark import Mark
from ..core.geometry.marks import MarkEdit, Marks
from ..core.geometry.numbers_of import numbers_of
from ..core.geometry.on_image import require_on
from ..core.geometry.shapes.line import SNAPPED
from ..core.image import Image
from ..core.left_out import OwnerOf
from ..core.operation import operation
from ..core.parameter import Between, Unit
from .calibrating.edge import BY_HAND, REACH
from .calibrating.line import Ends, read_line
from .calibrating.plane import PixelPlane


@operation(
    "measure",
    "Snap lines to edges",
    name="snap-marks",
    keywords="edge detection sub-pixel caliper align ends border length diameter width",
    called={"which": "Marks", "ends": "Ends lie on", "reach": "Ends move at most"},
    rare="reach",
    takes="series colour",
    group="Marks",
    methods="Ends of lines were brought to edges, to a part of a pixel",
)
def snap_marks(
    image: Annotated[Image, OwnerOf("marks")],
    marks: Marks,
    which: str = "all",
    *,
    ends: Ends = "opposite sides",
    reach: Annotated[float, Unit("px"), Between(0.5, 1000)] = REACH,
) -> MarkEdit:
    """Bring both ends of lines to the nearest edges of the image, to a part of a pixel; how sure they are is kept.

    Parameters
    ----------
    which : text
        Numbers of marks, as in 3, 5-9; or "all", which are all lines.
    ends : text
        "opposite sides" of one object, or the "same side" of two marks.
    reach : pixels
        How far an end is moved along the line at most.

    Raises
    ------
    Trouble
        When there is no such line, or no edges are near its ends.
    """
    require_on(marks, image)
    numbers = [n for n in numbers_of(which, marks) if marks[n].shape in SNAPPED]
    if not numbers:
        raise Trouble("There is no line to be brought to edges", "draw one, and name it by its number")
    after, bare = {}, []
    for number in numbers:
        made = _snapped(image, marks[number], ends, reach)
        if made is None:
            bare.append(number)
        else:
            after[number] = made
    if not after:
        several = f"{len(bare)} lines" if len(bare) > 1 else f"{marks[bare[0]].called}"
        raise Trouble(f"No clear edges lie near both ends of {several}", "draw closer to them, or let ends move more")
    title = f"Snap {marks[numbers[0]].called}" if len(after) == 1 else f"Snap {len(after)} lines"
    return MarkEdit.between(title, marks, after)


def _snapped(image: Image, mark: Mark, ends: Ends, reach: float) -> Mark | None:
    """A line with its ends on edges; None where there are none near both."""
    plane = PixelPlane.at(image, *mark.points)
    read = read_line(plane, plane.pixels(mark.points[0]), plane.pixels(mark.points[-1]), ends, reach)
    if not read.snapped:
        return None
    way = np.subtract(read.end, read.start)
    middle = (read.start + read.end) / 2
    half = read.span / 2 if read.length <= np.hypot(*way) else way / 2  # square to parallel edges
    places = [tuple(plane.world(at).tolist()) for at in (middle - half, middle + half)]
    side = float(np.mean(image.space.spacing[:2]))
    sure = min(read.sure, BY_HAND * np.sqrt(2)) / np.sqrt(2) * side
    return replace(mark.with_points(places), sure=float(sure))
