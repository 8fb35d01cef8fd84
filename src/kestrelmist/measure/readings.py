"""What two cursors on a section tell: distances, height difference, slope and angle, and how sure they are."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Annotated, NamedTuple

import numpy as np

from ..core.curve import Curve
from ..core.errors import Trouble
from ..core.image import Image
from ..core.operation import operation
from ..core.parameter import Between, Unit
from ..core.quantity import nanometres, readable
from ..core.table import Column, Table
from .plateaus import COVER
from .section import Line, Section, section_of
from .trace_noise import TOO_SHORT, Sureness, of_difference

Place = Annotated[float, Unit("mm"), Between(0, 1e9)]
Calibration = Annotated[float, Unit("%"), Between(0, 100)]


class Scales(NamedTuple):
    """Relative standard uncertainties of the scale of heights, and of that of lengths."""

    heights: float = 0.0
    lengths: float = 0.0


EXACT = Scales()


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
    unsure : Reading, optional
        For each of them, within what the true one lies 95 times of 100; NaN where nothing is known of it.
    too_short : bool
        Whether too little lies round them to tell how far noise goes together.
    """

    along: float
    straight: float | None
    difference: float
    slope: float
    angle: float | None
    unsure: Reading | None = None
    too_short: bool = False


def reading_of(
    curve: Curve, first: float, second: float, scales: Scales = EXACT, noise: Sureness | None = None
) -> Reading:
    """What cursors at two distances along a section tell; values between its points are interpolated linearly.

    `noise` tells how sure the difference of the values is without their scale, when that is known.
    """
    places = curve.places()
    a, b = (float(np.interp(v, places, curve.values, left=np.nan, right=np.nan)) for v in (first, second))
    along, difference = second - first, b - a
    nm = nanometres(curve.unit) if curve.along_unit == "mm" else None
    found = _reading(along, difference, None if nm is None else nm * 1e-6, _unsure(along, difference, scales, noise))
    return replace(found, too_short=noise is not None and noise.too_short)


def _unsure(along: float, difference: float, scales: Scales, noise: Sureness | None) -> tuple[float, float]:
    """Expanded uncertainties of distance and difference."""
    known = noise is not None or scales.heights > 0
    of_noise = noise.expanded() if noise is not None else 0.0
    apart = math.hypot(of_noise, COVER * scales.heights * difference) if known else math.nan
    return (COVER * scales.lengths * abs(along) if scales.lengths > 0 else math.nan), apart


def _reading(along: float, difference: float, length: float | None, unsure: tuple[float, float]) -> Reading:
    """`length` is how long one of the values is, in the unit of the distance; None when values are no lengths. What is
    not known to be unsure adds nothing to what follows from it."""
    slope = difference / along if along else math.nan
    of_along, of_difference = unsure
    parts = (of_difference, slope * of_along)
    of_slope = _together(*parts) / abs(along) if along else math.nan
    if length is None:
        return Reading(along, None, difference, slope, None, Reading(of_along, None, of_difference, of_slope, None))
    rise, steep = difference * length, slope * length
    straight = math.hypot(along, rise)
    of_straight = math.nan  # it is mostly distance: without that, its uncertainty is not known
    if straight and math.isfinite(of_along):
        of_straight = _together(along * of_along, rise * length * of_difference) / straight
    angle = math.copysign(1, along or 1) * math.degrees(math.atan2(rise, abs(along))) if along else math.nan
    of_angle = math.degrees(of_slope * length / (1 + steep * steep))
    unsure_of = Reading(of_along, of_straight, of_difference, of_slope, of_angle)
    return Reading(along, straight, difference, slope, angle, unsure_of)


def _together(*parts: float) -> float:
    known = [part for part in parts if math.isfinite(part)]
    return math.hypot(*known) if known else math.nan


def noise_between(found: Section, first: float, second: float) -> Sureness | None:
    """How sure the difference between two places is, by what the lines side by side differ there. None when there are
    too few that have values."""
    places = [int(np.abs(found.along - place).argmin()) for place in (first, second)]
    if any(np.isfinite(found.lines[place]).sum() < 2 for place in places):
        return None
    return of_difference(found.lines, *places)


@operation(
    "measure",
    "Read sections between two places",
    name="read-sections",
    keywords="cursor distance height difference slope angle compare profile section",
    version=2,
    called={
        "first": "First place",
        "second": "Second place",
        "calibration": "Scale ± heights",
        "calibration_of_lengths": "Scale ± lengths",
    },
    rare="calibration calibration_of_lengths",
    group="Heights",
    methods="Distances and height differences were read along sections",
)
def read_sections(
    sections: list[Curve],
    first: Place,
    second: Place,
    *,
    image: Image | None = None,
    calibration: Calibration = 0.0,
    calibration_of_lengths: Calibration = 0.0,
) -> Table:
    """Distance, height difference, slope and angle between two places of sections, a row each.

    Uncertainties are those within which the true value lies 95 times of 100.

    Parameters
    ----------
    sections : curves
        Sections that were kept.
    first, second : mm
        Places along them, from their starts; in pixels, of sections of a picture without a scale.
    image : image
        The one that sections were drawn on: of wide ones, the lines side by side tell the noise of the difference.
    calibration, calibration_of_lengths : %
        Relative standard uncertainty of the scale of heights, and of that of lengths.

    Raises
    ------
    Trouble
        When one is no section, or is shorter than that.
    """
    columns = [Column("section"), *(Column(name, "", 6) for name in ("from", "to"))]
    columns += [*_with_uncertainty("along"), *_with_uncertainty("straight"), Column("length_unit")]
    columns += [*_with_uncertainty("difference"), Column("unit"), *_with_uncertainty("slope"), Column("slope_unit")]
    columns += [*_with_uncertainty("angle", "°"), Column("noise")]
    table = Table("Sections between two places", columns)
    scales = Scales(calibration / 100, calibration_of_lengths / 100)
    for curve in sections:
        if curve.mark is None:
            raise Trouble(f"“{curve.name}” is a course through time and no section", "choose sections")
        if max(first, second) > curve.places()[-1] + 1e-9:
            raise Trouble(
                f"“{curve.name}” is {curve.places()[-1]:.6g} {curve.along_unit} long", "give places that lie on it"
            )
        noise, told = _noise_of(curve, image, first, second)
        found = reading_of(curve, first, second, scales, noise)
        of = found.unsure
        assert of is not None
        (unit, factor), length = readable(curve.unit), curve.along_unit
        values: list = [first, second, found.along, of.along, found.straight, of.straight, length]
        values += [factor * found.difference, factor * of.difference, unit]
        values += [factor * found.slope, factor * of.slope, f"{unit}/{length}" if unit else f"1/{length}"]
        values += [found.angle, of.angle, told]
        table.rows.append((curve.name, *(_known(v) for v in values)))
    return table


def _with_uncertainty(name: str, unit: str = "") -> list[Column]:
    sure = f"{name}_uncertainty"
    return [Column(name, unit, figures=5, sure_by=sure), Column(sure, unit, shown_as="± (95 %)", figures=2)]


def _known(value):
    return None if isinstance(value, float) and not math.isfinite(value) else value


def _noise_of(curve: Curve, image: Image | None, first: float, second: float) -> tuple[Sureness | None, str]:
    """How sure a difference is by the noise of the image, and what tells it, or why nothing does."""
    if image is None:
        return None, "not known: no image given"
    if curve.mark is None or (curve.subject, curve.image) != (image.subject, image.name):
        return None, "not known: drawn on another image"
    section = section_of(image, Line.of(curve.mark))
    sure = noise_between(section, first, second)
    if sure is None:
        return None, "not known: too few lines side by side"
    return sure, TOO_SHORT if sure.too_short else f"by {section.lines.shape[1]} lines side by side"
