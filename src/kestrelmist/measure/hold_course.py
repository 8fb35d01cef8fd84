"""Hold a course: keep it as a curve of the study."""

from __future__ import annotations

from typing import Literal

import numpy as np

from ..core.curve import Curve
from ..core.image import Image
from ..core.labels import LabelMap
from ..core.operation import operation
from ..core.parameter import LabelName, WorldPoint
from ..core.progress import Progress, silent
from .seed import Ball, seed_at, time_axis

LINES = Literal["solid", "dashed", "dotted", "dash-dot"]


@operation(
    "measure",
    "Hold a course",
    name="hold-course",
    keywords="time curve keep series region plot",
    takes="series",
)
def hold_course(
    image: Image,
    labels: LabelMap,
    point: WorldPoint | None = None,
    ball: Ball = 0.0,
    label: LabelName = "",
    *,
    name: str = "",
    colour: str = "#A44E28",
    width: float = 1.5,
    dashes: LINES = "solid",
    progress: Progress = silent(),
) -> Curve:
    """Keep the course of a voxel, a ball or a label as a curve, to be compared, exported and used as a seed.

    Parameters
    ----------
    point : place
        World position of the voxel, or of the middle of the ball.
    ball : mm
        Diameter of the ball; 0 for the voxel alone.
    label : label
        A label to be taken in place of the point.
    name : text
        Its name; where it was taken when left out.
    colour : text
        As #RRGGBB.
    width : number
        Of the line, in pixels, 0.5 to 8.
    dashes : text
        Kind of line.

    Raises
    ------
    Trouble
        When the image is no series, or nothing is where the course is wanted.
    """
    seed = seed_at(image, labels, point, ball, label)
    axis = time_axis(image)
    along = np.array(axis.values) if axis.values else None
    values = seed.course(image, progress)
    of = f"{seed.name} in {image.name}"
    unit = axis.unit if along is not None else ""
    return Curve(values, along, unit, image.unit, of, colour, width, dashes, name or seed.name, image.subject)
