"""What two cursors on a section tell: distances, height difference, slope and angle."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Annotated

import numpy as np

from ..core.curve import Curve
from ..core.errors import Trouble
from ..core.operation import operation
from ..core.parameter import Between, Unit
from ..core.quantity import nanometres, readable
from ..core.table import Column, Table

Place = Annotated[float, Unit("mm"), Between(0, 1e9)]


@dataclass(frozen=True)
class Reading:
    """Between two places of a section.

    Parameters
    ----------
    along : length
        From the first to the second.
    straight : length, optional
        Through both points of the surface; None where values are no lengths.
    difference : values
        Of the second less the first; NaN where one has none.
    slope : values per unit of length
    angle : degrees, optional
        Of the slope; None where values are no lengths.
    """

    along: float
    straight: float | None
    difference: float
    slope: float
    angle: float | None


def reading_of(curve: Curve, first: float, second: float) -> Reading:
    """What cursors at two distances along a section tell; values between its points are interpolated linearly."""
    places = curve.places()
    a, b = (float(np.interp(v, places, curve.values, left=np.nan, right=np.nan)) for v in (first, second))
    along, difference = second - first, b - a
    slope = difference / along if along else math.nan
    nm = nanometres(curve.unit)
    if nm is None or curve.along_unit != "mm":
        return Reading(along, None, difference, slope, None)
    rise = difference * nm * 1e-6
    angle = math.degrees(math.atan2(rise, abs(along))) if along else math.nan
    return Reading(along, math.hypot(along, rise), difference, slope, math.copysign(1, along or 1) * angle)


@operation(
    "measure",
    "Read sections between two places",
    name="read-sections",
    keywords="cursor distance height difference slope angle compare profile section",
)
def read_sections(sections: list[Curve], first: Place, second: Place) -> Table:
    """Distance, height difference, slope and angle between two places of sections, a row each.

    Parameters
    ----------
    sections : curves
        Sections that were kept.
    first, second : mm
        Places along them, from their starts; in pixels, of sections of a picture without a scale.

    Raises
    ------
    Trouble
        When one is no section, or is shorter than that.
    """
    heads = (("from", 6), ("to", 6), ("along", 6), ("straight", 6))
    columns = [Column("section"), *(Column(name, "", digits) for name, digits in heads), Column("length_unit")]
    columns += [Column("difference", "", 6), Column("unit"), Column("slope", "", 6), Column("angle", "°", 4)]
    table = Table("Sections between two places", columns)
    for curve in sections:
        if curve.line is None:
            raise Trouble(f"“{curve.name}” is a course through time and no section", "choose sections")
        if max(first, second) > curve.places()[-1] + 1e-9:
            raise Trouble(
                f"“{curve.name}” is {curve.places()[-1]:.6g} {curve.along_unit} long", "give places that lie on it"
            )
        found = reading_of(curve, first, second)
        (unit, factor), length = readable(curve.unit), curve.along_unit
        told = factor * found.difference, unit, factor * found.slope
        values = (found.along, found.straight, length, *told, found.angle)
        cells = [None if isinstance(v, float) and not math.isfinite(v) else v for v in values]
        table.rows.append((curve.name, first, second, *cells))
    return table
