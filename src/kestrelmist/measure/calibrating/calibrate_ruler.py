"""Calibrate by a stage ruler, read whole."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Annotated

import numpy as np

from ...core.calibration import Calibration, together
from ...core.errors import Trouble
from ...core.image import Image
from ...core.operation import operation
from ...core.parameter import Between, Unit
from ...core.progress import Progress, silent
from ...core.quantity import suited
from ...core.table import Column, Table
from .calibrate import KnownLength, Sides, detector_pixel, sides_of
from .plane import PixelPlane, require_pixels
from .ruler import RulerRead, read_ruler
from .taken_with import CALLED, GROUP, NOTHING_SAID, RARE, WORDS, Calibrated, TakenWith, magnification_notes, summary

LISTED = 500
"""Marks that are listed one by one."""
BENT = 0.002
"""Change of scale across a picture from which on it is said."""


@operation(
    "measure",
    "Calibrate by a stage ruler",
    name="calibrate-ruler",
    keywords=f"{WORDS} stage ruler graticule grating automatic",
    takes="series colour",
    called={"spacing": "From mark to mark", "sure": "Relative ±", **CALLED},
    rare=f"along other sure slice_ {RARE}",
    group=GROUP,
    methods="Pixel sizes were calibrated by all marks of a stage ruler with {spacing} from mark to mark",
    cites=("Takeda 1982", "JCGM 100:2008"),
)
def calibrate_ruler(
    image: Image,
    spacing: KnownLength,
    *,
    along: Sides = "both",
    other: Calibration | None = None,
    sure: Annotated[float, Unit("%"), Between(0, 50)] = 0.0,
    slice_: Annotated[int, Between(0, 1e6)] = 0,
    taken: TakenWith = NOTHING_SAID,
    progress: Progress = silent(),
) -> Calibrated:
    """Measure how large a pixel is, by all marks of a ruler that fills the picture, at any angle.

    The strongest frequency of the picture gives the direction and a first period, all marks together by least squares
    the period itself; how far the marks lie off the straight line tells how sure it is. Longer marks among the others
    do not disturb it.

    Parameters
    ----------
    spacing : mm
        From the middle of one mark to that of the next.
    along : text
        "right" or "down" measures that side of a pixel alone; the ruler has to lie along it.
    other : calibration
        The one of the other side, when each is measured apart.
    sure : %
        Relative standard uncertainty of the ruler itself.
    slice_ : number
        Which slice of a volume shows the ruler, counted from 0.

    Raises
    ------
    Trouble
        When no marks at one distance are seen, or fewer than four.
    """
    require_pixels(image.space)
    grey = image.frame().grey()
    if slice_ >= grey.space.shape[2]:
        raise Trouble(f"“{image.name}” has {grey.space.shape[2]} slices", "give one of them, counted from 0")
    plane = PixelPlane(grey, slice_)
    progress.at(0.1, "Reading the ruler")
    read = read_ruler(plane.whole(), plane.aspect)
    span = read.period * read.way / np.array((1.0, plane.aspect))  # in columns and rows
    sides = sides_of(span, spacing, along, plane.aspect, other)
    spread, freedom = together((read.sure / read.period, read.freedom), (sure / 100, math.inf))
    made = sides.calibration(
        spread,
        freedom,
        subject=image.subject,
        how="ruler",
        known=suited(spacing, "mm"),
        on=image.name,
        pixels=plane.size,
        detector_pixel=detector_pixel(image),
        **taken.facts_of(image),
    )
    count, off = int(read.used.sum()), int((~read.used).sum())
    notes = [f"{count} marks were read{f'; {off} that lay off were left out' if off else ''}"]
    if abs(read.bend) > BENT:
        notes.append(f"The scale changes by {100 * abs(read.bend):.1f} % across the picture: the lens distorts it")
    made = replace(made, notes=(*notes, *magnification_notes(made)))
    progress.at(1.0)
    return Calibrated(made, summary(made, _table(read, made)))


def _table(read: RulerRead, made: Calibration) -> Table:
    columns = [Column("mark"), Column("place", "px", 3), Column("off", "px", 3), Column("counts")]
    table = Table(f"Marks of {made.name}", columns)
    rows = zip(read.numbers.tolist(), read.places.tolist(), read.off.tolist(), read.used.tolist())
    table.rows = [(str(n), at, off, "yes" if used else "no") for n, at, off, used in list(rows)[:LISTED]]
    return table
