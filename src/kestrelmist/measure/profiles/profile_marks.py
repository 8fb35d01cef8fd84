"""Profiles of marks: several lines at once, bands, along an edge, outwards from a middle; and the peaks in them."""

from __future__ import annotations

import math
from typing import Annotated, Literal, NamedTuple

import numpy as np

from ...core.calibration import coverage, together
from ...core.digits import decimals_for, decimals_of
from ...core.errors import Trouble
from ...core.geometry.marks import Marks
from ...core.geometry.numbers_of import numbers_of
from ...core.geometry.on_image import require_on
from ...core.geometry.shape import shape_named
from ...core.image import Image
from ...core.left_out import LeftOut, OwnerOf
from ...core.operation import operation
from ...core.parameter import Between as Limits
from ...core.parameter import Only, Unit
from ...core.progress import Progress, silent
from ...core.scale import Scale, scale_of
from ...core.table import Column, Table
from ..section import Between, Width
from .paths import Profile, along, outwards, step_of
from .peaks import peaks_of

Way = Literal["along", "outwards"]


class Profiles(NamedTuple):
    """Values along marks, and the peaks in them."""

    profiles: Table
    peaks: Table


@operation(
    "measure",
    "Profiles of marks",
    name="profile-marks",
    keywords="line profile intensity plot band radial polyline along edge peak fwhm half width line scan several",
    called={"which": "Marks", "way": "Profile runs", "width": "Band", "reach": "Out to", "look": "Peaks are",
            "least": "Peaks from", "between": "Between voxels"},
    rare="which reach look least between",
    group="Lines",
    methods="Values were taken along marks, averaged over a band of {width}; peaks have full widths at half maximum",
    cites=("JCGM 100:2008", "Unser 1999"),
)  # fmt: skip
def profile_marks(
    marks: Marks,
    image: Annotated[Image, OwnerOf("marks")],
    width: Width = 0.0,
    *,
    way: Way = "along",
    which: str = "all",
    reach: Annotated[float, Limits(0.01, 100), Only("way", "outwards")] = 1.0,
    look: Literal["bright", "dark"] = "bright",
    least: Annotated[float | None, Unit("value"), Limits(0, 1e300), LeftOut("eight times the noise")] = None,
    between: Between = "cubic",
    progress: Progress = silent(),
) -> Profiles:
    """The values of an image along marks, several at once: lines, polylines, hand-drawn lines, the edge of what is
    closed; or outwards, over copies of a closed outline about its middle. And the peaks in each, with their widths.

    Values are taken in steps of half the smallest voxel side, between voxels by cubic splines, which do not widen peaks
    (M. Unser, IEEE Signal Process. Mag. 16, 1999).

    Parameters
    ----------
    image : image
        Whose values are taken.
    width : mm
        Of the band square to the line over which values are averaged; 0 for the line alone.
    way : choice
        Along the line, or outwards from the middle.
    which : text
        Numbers of marks, as in 3, 5-9; or "all" that have a line.
    reach : number
        How far outwards, in sizes of the mark.
    look : choice
        Whether peaks are brighter than what lies beside them, or darker.
    least : values
        By how much a peak stands out from the ground beside it.
    between : choice
        Values between voxels: by cubic splines, or linearly, as where they are numbers of labels.

    Returns
    -------
    profiles : Table
        A row a point: mark, name, distance, mean of the band, its SD and number of values.
    peaks : Table
        A row a peak: mark, name, place with ±, height, ground, full width at half maximum with ± (95 %, of noise and
        scale).

    Raises
    ------
    Trouble
        When no mark has a line, one is shorter than a voxel, or meets no value of the image.
    """
    require_on(marks, image)
    chosen = [marks[number] for number in numbers_of(which, marks)]
    everything = which.strip().casefold() == "all"
    fits = [mark for mark in chosen if (shape_named(mark.shape).closed if way == "outwards" else len(mark.outline) > 1)]
    if everything:
        chosen = fits
    if not chosen:
        wanted = "closed marks" if way == "outwards" else "lines"
        raise Trouble(f"“{marks.name}” has no {wanted}", "draw some first")
    unit, scale = image.space.unit, scale_of(image)
    found: list[Profile] = []
    for mark in progress.over(chosen, len(chosen), "Taking profiles"):
        found.append(along(image, mark, width, between) if way == "along" else outwards(image, mark, reach, between))
    told = [one.mean[np.isfinite(one.mean)] for one in found]
    low, high = float(min(map(np.min, told))), float(max(map(np.max, told)))
    value, length = decimals_for(low, high) + 1, decimals_of(step_of(image)) + 1
    first = [Column("mark"), Column("name")]
    rows = [
        (mark.id, mark.name, float(at), _known(mean), _known(sd), int(count), image.subject, image.name)
        for mark, one in zip(chosen, found)
        for at, mean, sd, count in zip(one.along, one.mean, one.sd, one.count)
    ]
    hidden = [Column("subject", hidden=True), Column("image", hidden=True)]
    columns = [*first, Column("distance", unit, length), Column("mean", image.unit, value),
               Column("sd", image.unit, value), Column("values"), *hidden]  # fmt: skip
    band = f", band of {width:g} {unit}" if width and way == "along" else ""
    several = f"{len(chosen)} profile{'' if len(chosen) == 1 else 's'}"
    profiles = Table(f"{several} {way} {marks.name} on {image.name}{band}", columns, rows)
    return Profiles(profiles, _peaks(chosen, found, image, scale, look, least, (value, length), hidden))


def _peaks(chosen, found, image, scale: Scale, look, least, digits, hidden) -> Table:
    unit = image.space.unit
    columns = [
        Column("mark"), Column("name"), Column("peak"),
        Column("at", unit, digits[1], sure_by="sure_at"), Column("sure_at", unit, digits[1], shown_as="± (95 %)"),
        Column("height", image.unit, digits[0]), Column("ground", image.unit, digits[0]),
        Column("width", unit, digits[1], shown_as="half width", sure_by="sure_width"),
        Column("sure_width", unit, digits[1], shown_as="± (95 %)"), Column("noise", image.unit, figures=3), *hidden,
        Column("scale", hidden=True),
    ]  # fmt: skip
    rows = []
    for mark, one in zip(chosen, found):
        peaks, noise = peaks_of(one, look == "dark", least)
        for n, peak in enumerate(peaks, 1):
            at = _expanded(peak.at, peak.sure_at, scale)
            wide = _expanded(peak.width, peak.sure_width, scale)
            rows.append((mark.id, mark.name, n, peak.at, at, peak.height, peak.ground, _known(peak.width), wide,
                         noise, image.subject, image.name, scale.words))  # fmt: skip
    many = f"{len(rows)} {'dark ' if look == 'dark' else ''}peak{'' if len(rows) == 1 else 's'}"
    return Table(f"{many} on {image.name}", columns, rows)


def _expanded(length: float, sure: float, scale: Scale) -> float | None:
    """Within what a length lies 95 times of 100, by noise and by the scale."""
    if not math.isfinite(sure):
        return None
    known = [s for s in scale.sure if math.isfinite(s) and scale.unit != "px"]
    of_scale = max(known, default=0.0) * abs(length)
    whole, freedom = together((of_scale, scale.freedom), (sure, math.inf))
    return coverage(freedom) * whole


def _known(value: float) -> float | None:
    return float(value) if math.isfinite(value) else None
