"""Hold a course: keep it as a curve of the study."""

from __future__ import annotations

import numpy as np

from ..core.axis import Axis
from ..core.curve import COLOURS, Curve, Dashes
from ..core.image import Image
from ..core.labels import LabelMap
from ..core.operation import operation
from ..core.parameter import LabelName, WorldPoint
from ..core.progress import Progress, silent
from .seed import Ball, Seed, seed_at, time_axis


@operation(
    "measure",
    "Hold a course",
    name="hold-course",
    keywords="time curve keep series region plot",
    takes="series",
    called={"ball": "Ball about it", "label": "Or label", "dashes": "Line"},
    rare="colour width dashes",
    group="Courses",
    methods="The mean course of places was taken",
)
def hold_course(
    image: Image,
    labels: LabelMap,
    point: WorldPoint | None = None,
    ball: Ball = 0.0,
    label: LabelName = "",
    *,
    name: str = "",
    colour: str = COLOURS[0],
    width: float = 1.5,
    dashes: Dashes = "solid",
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
    values, axis = seed.course(image, progress), time_axis(image)
    return curve_of(seed, image, axis, values, colour=colour, width=width, dashes=dashes, name=name or seed.name)


def curve_of(seed: Seed, image: Image, axis: Axis, values: np.ndarray, **style) -> Curve:
    """The course of a seed as a curve, with the units of the image and of its time axis."""
    of = f"{seed.name} in {image.name}"
    return Curve.over(axis, values, unit=image.unit, of=of, subject=image.subject, **style)
