"""Calibrate by lines over a known length."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Annotated, Literal

import numpy as np

from ...core.calibration import Calibration, together
from ...core.caveat import AT_DETECTOR, has_caveat
from ...core.errors import Trouble
from ...core.geometry.typed_points import points_of
from ...core.image import Image
from ...core.operation import operation
from ...core.parameter import Between, LineEnd, Role, Unit
from ...core.quantity import suited, suited_unit
from ...core.scale import scale_of
from ...core.table import Column, Table
from .edge import BAND, REACH
from .line import Ends, Reading, read_line
from .plane import PixelPlane, require_pixels
from .taken_with import CALLED, GROUP, NOTHING_SAID, RARE, WORDS, Calibrated, TakenWith, magnification_notes, summary

KnownLength = Annotated[float, Unit("mm"), Between(1e-9, 1e9)]
Sides = Literal["both", "right", "down"]
SLANT = math.radians(20)
"""How far off its axis a line may run that is to tell one side of a pixel alone."""


@operation(
    "measure",
    "Calibrate by a line",
    name="calibrate",
    keywords=f"{WORDS} known length set scale line",
    takes="series colour",
    called={"from_": "From", "repeat": "Repeats", "sure": "Length ±", **CALLED, "reach": "Ends move up to"},
    rare=f"along other sure reach {RARE}",
    group=GROUP,
    methods="Pixel sizes were calibrated by lines over a known length of {length}",
    cites=("JCGM 100:2008",),
)
def calibrate(
    image: Annotated[Image, Role("grid")],
    from_: LineEnd,
    to: LineEnd,
    length: KnownLength,
    *,
    repeat: Annotated[str, Role("places"), Unit("mm")] = "",
    ends: Ends = "same side",
    along: Sides = "both",
    other: Calibration | None = None,
    sure: Annotated[float, Unit("mm"), Between(0, 1e9)] = 0.0,
    reach: Annotated[float, Unit("px"), Between(0.5, 1000)] = REACH,
    taken: TakenWith = NOTHING_SAID,
) -> Calibrated:
    """Measure how large a pixel is, by lines over a known length.

    Ends are brought to the nearest edges, to a part of a pixel: by default to the same side of both marks, so that
    the width of the marks does not count. Where both edges are straight and parallel, the length is taken square to
    them. Several lines tell the spread; of a single one the edges tell how sure it is, and of one as drawn that an eye
    places an end to half a pixel.

    Parameters
    ----------
    from_, to : place
        World positions of the ends.
    length : mm
        The known length between them.
    repeat : text
        Further lines over the same length: pairs of positions with ; between them.
    ends : text
        Which edges the ends are brought to: the same side of two marks, opposite sides of one object, or none.
    along : text
        "right" or "down" measures that side of a pixel alone.
    other : calibration
        The one of the other side, when each is measured apart.
    sure : mm
        Standard uncertainty of the known length.
    reach : pixels
        How far an end is moved along the line at most.

    Raises
    ------
    Trouble
        When a line has no length, lies outside the image or runs across slices, or does not run along the side that is
        to be measured.
    """
    require_pixels(image.space)
    lines = [(np.asarray(from_, float), np.asarray(to, float)), *_pairs(repeat, image.space.unit)]
    plane = PixelPlane.at(image, *(place for line in lines for place in line))
    readings = [read_line(plane, plane.pixels(a), plane.pixels(b), ends, reach) for a, b in lines]
    found = [sides_of(one.span, length, along, plane.aspect, other) for one in readings]
    sizes = np.array([one.measured for one in found])
    size, spread, freedom = _put_together(sizes, readings, sure / length)
    notes = [f"Line {n}: {note}" for n, one in enumerate(readings, 1) for note in one.notes]
    if len(readings) == 1 and not readings[0].snapped:
        notes.append("One line, as drawn: its ends are taken to be sure to half a pixel; repeat it to learn the spread")
    made = (
        found[0]
        .of(size)
        .calibration(
            spread,
            freedom,
            subject=image.subject,
            how="line",
            known=suited(length, "mm"),
            on=image.name,
            pixels=plane.size,
            detector_pixel=detector_pixel(image),
            **taken.facts_of(image),
        )
    )
    made = replace(made, notes=(*notes, *magnification_notes(made)))
    return Calibrated(made, summary(made, _table(readings, sizes, made)))


def detector_pixel(image: Image) -> float:
    """From pixel to pixel at the detector of a projection, of both sides the geometric mean, mm; 0 where the scale is
    none such."""
    side, known = math.sqrt(image.space.spacing[0] * image.space.spacing[1]), scale_of(image).magnification
    if image.space.unit == "mm" and (known or has_caveat(image.caveats, AT_DETECTOR)):
        return side * (known or 1.0)  # of one that was divided by a magnification already, what it was before
    return 0.0


def _pairs(text: str, unit: str) -> list[tuple[np.ndarray, np.ndarray]]:
    """Lines from text with all their ends in a row."""
    if not text.strip():
        return []
    ends = points_of(text.replace("/", ";"), unit)
    if len(ends) % 2:
        raise Trouble(f"The repeated lines have {len(ends)} ends", "give two positions a line, with ; between them")
    return list(zip(ends[::2], ends[1::2]))


@dataclass(frozen=True)
class MeasuredSides:
    """What a known length says of the sides of a pixel, mm: of both, or of one, the other one known or as it was."""

    measured: float
    along: Sides
    aspect: float
    other: Calibration | None = None

    def of(self, measured: float) -> MeasuredSides:
        """The same, of another size."""
        return replace(self, measured=measured)

    def calibration(self, sure: float, freedom: float, **facts) -> Calibration:
        """The calibration that it makes, with a relative standard uncertainty and its degrees of freedom."""
        size, other = self.measured, self.other
        if self.along == "both" or other is None:
            right = size / self.aspect if self.along == "down" else size
            return Calibration(right, right * self.aspect, sure, sure, freedom, **facts)
        freedom = min(freedom, other.freedom)
        if self.along == "right":
            return Calibration(size, other.down, sure, other.sure_down, freedom, apart=True, **facts)
        return Calibration(other.right, size, other.sure_right, sure, freedom, apart=True, **facts)


def sides_of(span, length: float, along: Sides, aspect: float, other: Calibration | None) -> MeasuredSides:
    """The sides of a pixel that make so many columns and rows as long as is known.

    Raises
    ------
    Trouble
        When one side is to be measured and the length does not run along it.
    """
    u, v = (float(abs(n)) for n in span)
    made = MeasuredSides(1.0, along, aspect, other)
    if along == "both":
        return made.of(length / math.hypot(u, aspect * v))
    on, beside = (u, v) if along == "right" else (v, u)
    if math.atan2(beside, on) > SLANT:
        where = "to the right" if along == "right" else "down"
        raise Trouble(f"The known length does not run {where}", "lay it along the side that is measured, or both")
    if other is not None:
        known = beside * (other.down if along == "right" else other.right)
        return made.of(math.sqrt(max(length**2 - known**2, 0.0)) / on)
    return made.of(length / math.hypot(on, beside * (aspect if along == "right" else 1 / aspect)))


def _put_together(sizes: np.ndarray, readings: Sequence[Reading], of_length: float) -> tuple[float, float, float]:
    """Mean size, its relative standard uncertainty and degrees of freedom: of the noise of the edges, which lines at
    one place share, of what the lines spread beyond that, and of the known length."""
    size, count = float(sizes.mean()), len(sizes)
    parts = [(of_length, math.inf)]
    shares = np.array([one.sure / one.length for one in readings if one.snapped or count == 1])
    of_edges = float(np.mean(shares**2)) if shares.size else 0.0
    if of_edges:
        parts.append((math.sqrt(of_edges / _apart(readings)), math.inf))
    if count > 1:
        beyond = max(0.0, float(sizes.var(ddof=1)) / size**2 - of_edges)
        parts.append((math.sqrt(beyond / count), count - 1.0))
    return (size, *together(*parts))


def _apart(readings: Sequence[Reading]) -> int:
    """How many of the lines look at pixels of their own."""
    found: list[Reading] = []
    for one in readings:
        ways = (min(np.hypot(*(one.start - f.start)), np.hypot(*(one.end - f.end))) for f in found)
        if all(way > 2 * BAND for way in ways):
            found.append(one)
    return max(1, len(found))


def _table(readings: Sequence[Reading], sizes: np.ndarray, made: Calibration) -> Table:
    unit, factor = suited_unit(float(sizes.mean()), "mm")
    columns = [Column("line"), Column("length", "px", 3), Column("uncertainty", "px", 3, shown_as="±")]
    columns += [Column("first_end_moved", "px", 2), Column("second_end_moved", "px", 2)]
    columns.append(Column("pixel", unit, figures=6))
    table = Table(f"Lines of {made.name}", columns)
    for n, (one, size) in enumerate(zip(readings, sizes), 1):
        moved = [None if math.isnan(m) else m for m in one.moved]
        table.rows.append((str(n), one.length, float(one.sure), *moved, float(size) * factor))
    return table
