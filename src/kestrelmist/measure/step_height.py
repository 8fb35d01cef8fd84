"""The height of a step on a line across it."""

from __future__ import annotations

import math
from typing import Annotated

import numpy as np

from ..core.curve import Curve
from ..core.errors import Trouble
from ..core.image import Image
from ..core.left_out import LeftOut
from ..core.operation import operation
from ..core.parameter import Between, LineEnd, Unit
from ..core.quantity import nanometres, readable
from ..core.table import Column, Table
from .plateaus import Step, step_in
from .readings import Calibration
from .section import Line, Width, section_of
from .trace_noise import TOO_SHORT

SURE = "uncertainty (95 %)"
"""Column of what the values are sure to."""


def line_of(image: Image, from_, to, width: float, section: Curve | None) -> Line:
    """The line that is meant: that of a section that was kept, or one between two places; raises Trouble when neither
    or both are given."""
    if section is not None:
        if from_ is not None or to is not None:
            raise Trouble("A section and two places are given", "give one of them")
        if section.mark is None:
            raise Trouble(f"“{section.name}” is a course through time and no section", "choose a section")
        return Line.of(section.mark)
    if from_ is None or to is None:
        raise Trouble("Nothing says where the line is", "give both of its ends, or a section that was kept")
    return Line(tuple(from_), tuple(to), width)


@operation(
    "measure",
    "Step height",
    name="step-height",
    keywords="plateau groove depth ridge iso 5436 section profile height",
    version=2,
    called={"from_": "From", "edge": "Off each edge", "calibration": "Scale ±"},
    rare="edge calibration",
    group="Heights",
    methods="Step heights were measured by parallel straight lines fitted to both levels",
    cites=("ISO 5436-1",),
)
def step_height(
    image: Image,
    from_: LineEnd | None = None,
    to: LineEnd | None = None,
    width: Width = 0.0,
    *,
    section: Curve | None = None,
    edge: Annotated[float | None, Unit("mm"), Between(0, 1e6), LeftOut("the standard’s thirds", was=0.0)] = None,
    calibration: Calibration = 0.0,
) -> Table:
    """The height of a step, or the depth of a groove, on a line across it: both levels are fitted by parallel straight
    lines.

    Across a groove or a ridge of width W, as ISO 5436-1 (2000, type A1) has it: the surface counts from W/3 to W on
    both sides, the far level over its middle third. Across one edge, both plateaus count but for what lies near it.
    What stands out of both by more than 4 standard deviations, as dust does, is passed over.

    Parameters
    ----------
    from_, to : place
        World positions of the ends of the line.
    width : mm
        Across the line.
    section : curve
        A section that was kept, in place of the ends; it is taken of the image anew.
    edge : mm
        Left out on each side of every edge; when left out the standard's thirds, or a tenth of the shorter plateau.
    calibration : %
        Relative standard uncertainty of the scale of heights.

    Returns
    -------
    Table
        Height with the uncertainty that it lies within 95 times of 100, by noise as it goes together, slope, edges,
        what counted, what was left out and what was passed over as dust.

    Raises
    ------
    Trouble
        When there is no edge or more than two, or too little is left on a plateau.
    """
    line = line_of(image, from_, to, width, section)
    found = section_of(image, line)
    step = step_in(found.along, found.lines, section.name if section is not None else image.name, edge or 0.0)
    return _told(step, image, calibration / 100)


def _told(step: Step, image: Image, calibration: float) -> Table:
    (unit, factor), length = readable(image.unit), image.space.unit
    table = Table(
        f"Step height in {image.name}",
        [Column("what"), Column("value", figures=5, sure_by=SURE), Column(SURE, figures=2), Column("unit")],
    )
    word = (
        "step height" if len(step.edges) == 1 else "height of the ridge" if step.height > 0 else "depth of the groove"
    )
    height = factor * (step.height if len(step.edges) == 1 else abs(step.height))
    table.rows.append((word, height, factor * step.expanded(calibration), unit))
    table.rows.append(("noise of the plateaus (standard)", factor * step.noise, None, unit))
    table.rows.append(("noise goes together over", step.reach, None, length))
    if step.too_short:
        table.rows.append((f"the line is {TOO_SHORT}: draw a longer one", None, None, ""))
    if calibration:
        table.rows.append(("calibration (standard)", calibration * abs(height), None, unit))
    nm = nanometres(image.unit)
    if nm is not None and length == "mm":
        table.rows.append(("slope of the plateaus", math.degrees(math.atan(step.slope * nm * 1e-6)), None, "°"))
    for n, edge in enumerate(step.edges, 1):
        table.rows.append((f"edge {n}", edge, None, length))
    if len(step.edges) == 2:
        table.rows.append(("width", step.edges[1] - step.edges[0], None, length))
    for name, ranges in (("counted", step.counted), ("left out", step.left_out), ("dust", step.dust)):
        for low, high in ranges:
            table.rows.append((f"{name}, from", low, None, length))
            table.rows.append((f"{name}, to", high, None, length))
    table.rows = [tuple(None if isinstance(v, float) and not np.isfinite(v) else v for v in row) for row in table.rows]
    return table
