"""Calibrate by a disc, a ball or a square of known size."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Annotated

import numpy as np

from ...core.calibration import Calibration, together
from ...core.image import Image
from ...core.operation import operation
from ...core.parameter import Between, Role, Spot, Unit
from ...core.quantity import suited
from ...core.table import Column, Table
from .calibrate import KnownLength, detector_pixel
from .known_object import KnownShape, read_object
from .plane import PixelPlane, require_pixels
from .taken_with import CALLED, GROUP, NOTHING_SAID, RARE, WORDS, Calibrated, TakenWith, magnification_notes, summary


@operation(
    "measure",
    "Calibrate by a known object",
    name="calibrate-object",
    keywords=f"{WORDS} marker ball bearing sphere coin disc square radiograph magnification",
    takes="series colour",
    called={"at": "Inside it", "size": "Diameter or side", "sure": "Size ±", "apart": "Sides apart", **CALLED},
    rare=f"apart sure {RARE}",
    group=GROUP,
    methods="Pixel sizes were calibrated by a {shape} of {size}",
    cites=("JCGM 100:2008",),
)
def calibrate_object(
    image: Annotated[Image, Role("grid")],
    at: Spot,
    size: KnownLength,
    shape: KnownShape = "disc",
    *,
    apart: bool = False,
    sure: Annotated[float, Unit("mm"), Between(0, 1e9)] = 0.0,
    taken: TakenWith = NOTHING_SAID,
) -> Calibrated:
    """Measure how large a pixel is, by an object of known size that stands out, as a marker beside the subject.

    A model of it, blurred as the picture is, is fitted to the pixels. In a projection the calibration holds for the
    plane that the object lies in; how much that is magnified is kept with it, where the header tells the pixel at the
    detector.

    Parameters
    ----------
    at : place
        World position inside the object: click in it.
    size : mm
        Its diameter, or the side of a square.
    shape : text
        "disc": evenly bright or dark, as a coin or a ball that lets no rays through; "ball": one that rays go through,
        brightest or darkest in the middle; "square".
    apart : bool
        Measure both sides of a pixel apart, by a disc or a ball.
    sure : mm
        Standard uncertainty of the known size.

    Raises
    ------
    Trouble
        When nothing of that shape stands out there.
    """
    require_pixels(image.space)
    plane = PixelPlane.at(image, at)
    apart = apart and shape != "square"
    read = read_object(plane, plane.pixels(at), shape, apart)
    right, down = size / read.right, size / read.down
    sides = [together((s / n, math.inf), (sure / size, math.inf))[0]
             for s, n in ((read.sure_right, read.right), (read.sure_down, read.down))]  # fmt: skip
    made = Calibration(
        right,
        down,
        sides[0],
        sides[1],
        apart=apart,
        subject=image.subject,
        how=shape,
        known=suited(size, "mm"),
        on=image.name,
        pixels=plane.size,
        detector_pixel=detector_pixel(image),
        **taken.facts_of(image),
    )
    notes = []
    if made.magnification:
        notes.append(f"The plane of the {shape} is magnified {made.magnification:.4g} times at the detector")
    made = replace(made, notes=(*notes, *magnification_notes(made)))
    columns = [Column("object"), Column("column", "px", 2), Column("row", "px", 2)]
    columns += [Column("across", "px", 3), Column("uncertainty", "px", 3, shown_as="±"), Column("blur", "px", 2)]
    row = (shape, *map(float, read.middle), float(np.mean((read.right, read.down))), read.sure_right, read.blur)
    return Calibrated(made, summary(made, Table(f"Object of {made.name}", columns, [row])))
