"""Height maps levelled: tilt, bow and jumps between lines taken away."""

from __future__ import annotations

import math
from contextlib import suppress
from typing import Annotated, Any, Literal, NamedTuple

import numpy as np

from ...core.errors import Trouble
from ...core.heights import in_nanometres, require_picture
from ...core.image import Image
from ...core.labels import LabelMap
from ...core.left_out import NO_LIMIT
from ...core.on_grid import require_same_grid
from ...core.operation import operation
from ...core.parameter import Between, Only, Role, Unit
from ...core.progress import Progress, silent
from ...core.quantity import nanometres
from ...core.table import Column, Table
from .left_out import left_of
from .level_ways import Levelling, differences, lines, picked_plane, steps, surface
from .lines_fit import Left, anything_left, squares_left

LEVELLED = "Levelled by"
"""The fact of an image that says how it was levelled; checks read it."""
WAYS = Literal["lines", "plane", "surface", "points", "differences", "steps"]
FITTED = ("lines", "plane", "surface")
BY_LINE = ("lines", "differences", "steps")
Points = Annotated[
    tuple[float, float, float, float, float, float] | None, Unit("mm"), Role("points"), Only("how", "points")
]


class Levelled(NamedTuple):
    """The level map, what was taken away from it, and a report."""

    image: Image
    background: Image
    report: Table


def _left_out(given: dict[str, Any]) -> np.ndarray:
    """What a fit with these inputs and settings leaves out, bool [i, j, k]; see `Operation.tinted`."""
    image = given["image"]
    require_picture(image)
    limits = given["limit_below"], given["limit_above"], given["each_line"]
    slow = runs_slow(given["how"], given["along"])
    left = left_of(image, slow, *limits, given.get("leave_out"))
    out = ~left.used
    if given["robust"] and given["how"] in FITTED:
        with suppress(Trouble):  # it is said by the operation itself
            found = _fitted(image, given["how"], given["order"], True, left, None, silent())
            out = out if found.out is None else out | found.out
    out &= np.isfinite(left.heights)
    return (out if slow else out.T)[:, :, None]


def runs_slow(how: str, along: str) -> bool:
    """Whether lines run along the slow axis."""
    return along == "slow" and how in BY_LINE


@operation(
    "prepare",
    "Level",
    name="level",
    keywords=(
        "flatten tilt bow plane polynomial line height map background subtract scan levelling plane fit "
        "flattening polynomial fit form removal"
    ),
    group="Height maps",
    reach=math.inf,
    tinted=_left_out,
    called={
        "how": "Fit",
        "along": "Lines run",
        "order": "Degree",
        "limit_below": "Not below",
        "limit_above": "Not above",
        "each_line": "Line by line",
        "leave_out": "Not within",
        "robust": "Leave outliers",
        "points": "Three points",
    },
    methods="Height maps were levelled ({how})",
    cites=("Rousseeuw 2006",),
)
def level(
    image: Image,
    how: WAYS = "plane",
    along: Annotated[Literal["fast", "slow"], Only("how", *BY_LINE)] = "fast",
    order: Annotated[int, Between(0, 3), Only("how", "lines", "surface")] = 1,
    *,
    limit_below: Annotated[float | None, Unit("nm"), NO_LIMIT] = None,
    limit_above: Annotated[float | None, Unit("nm"), NO_LIMIT] = None,
    each_line: bool = False,
    leave_out: LabelMap | None = None,
    robust: Annotated[bool, Only("how", *FITTED)] = True,
    points: Points = None,
    progress: Progress = silent(),
) -> Levelled:
    """Take tilt, bow and jumps between lines away from a height map; heights are counted from the fit afterwards.

    Parameters
    ----------
    how : text
        "lines": a polynomial is fitted to each line by itself. "plane" and "surface": one plane, or one polynomial of x
        and y, is fitted to all of it. "points": the plane through three picked points. "differences": each line is
        shifted by the median of its differences to the line before. "steps": only jumps between lines are mended, and
        tilt and bow stay.
    along : text
        Which way lines run: the fast axis (rows) or the slow one (columns).
    order : number
        Of the polynomials; 0 is a shift. "differences" and "steps" have none.
    limit_below, limit_above : nm
        What lies below or above these heights is left out of the fit.
    each_line : bool
        Count the limits from the median of each line instead of from zero.
    leave_out : label map
        Voxels that carry a label are left out of the fit.
    robust : bool
        Leave out by itself what stands out of the fit (least trimmed squares: P. J. Rousseeuw and K. Van Driessen, Data
        Min. Knowl. Discov. 12, 2006). Good while less than two fifths of a line stand out.
    points : six mm
        Of "points": x and y of each; the median of five by five points round each counts.

    Returns
    -------
    image : Image
        float32, in the unit of the map. A line of which too little is left for the fit is levelled by its neighbours.
    background : Image
        What was taken away.
    report : Table
        Share left out, lines without a fit of their own, tilt, bow, jumps, and what is left of the heights that
        counted.

    Raises
    ------
    Trouble
        When the image is no single picture, its values have no unit of length and limits are given, everything is left
        out, or more than half of the lines have fewer points left than the order needs.
    """
    require_picture(image)
    slow = runs_slow(how, along)
    left = left_of(image, slow, limit_below, limit_above, each_line, leave_out)
    if leave_out is not None:
        require_same_grid(image, leave_out)
    progress.at(0.1, "Fitting")
    if not anything_left(left):
        raise Trouble(f"All of “{image.name}” is left out of the fit", "give other limits, or leave out less")
    found = _fitted(image, how, order, robust, left, points, progress.part(0.1, 0.8))
    progress.at(0.85, "Taking it away")
    flat = found.level(left.heights)
    image_of = (lambda z: z[:, :, None]) if slow else (lambda z: z.T[:, :, None])
    made = image.like(image_of(flat), name=f"{image.name}, level", facts={**image.facts, **_said(how, order)})
    background = image.like(lambda *_: image_of(found.background(flat.shape)), name=f"{image.name}, background")
    return Levelled(made, background, _report(image, found, left, flat, slow))


def _fitted(image: Image, how: str, order: int, robust: bool, left: Left, points, progress: Progress) -> Levelling:
    if how == "lines":
        return lines(left, order, robust, image.name, progress)
    if how in FITTED:
        return surface(left, 1 if how == "plane" else order, robust, image.name, progress)
    if how == "points":
        return picked_plane(image, points)
    return (differences if how == "differences" else steps)(left, image.name)


def _said(how: str, order: int) -> dict[str, str]:
    return {LEVELLED: f"{how}, order {order}" if how in ("lines", "surface") else how}


def _report(image: Image, found: Levelling, left: Left, flat: np.ndarray, slow: bool) -> Table:
    known = nanometres(image.unit) is not None
    unit = "nm" if known else image.unit
    factor = in_nanometres(image) if known else 1.0
    counted = squares_left(left, flat)[1]
    squares, count = squares_left(left if found.out is None else left.without(found.out), flat)
    rows: list[tuple] = [("left out of the fit", 100 * (1 - counted / flat.size), "%")]
    if found.out is not None:
        rows.append(("stood out of the robust fit", 100 * (counted - count) / flat.size, "%"))
    if found.filled:
        rows.append(("lines levelled by their neighbours", float(found.filled), ""))
    means, lines = found.means, np.linspace(-1, 1, len(found.means))
    across = 2 * float(np.polyfit(lines, means, 1)[0])
    if image.space.unit == "mm" and known:
        sizes = [n * s for n, s in zip(image.space.shape[:2], image.space.spacing[:2])]
        for name, rise, length in zip(
            ("along lines", "across lines"), (found.slope, across), sizes[:: -1 if slow else 1]
        ):
            rows.append((f"tilt {name}", math.degrees(math.atan2(rise * factor * 1e-6, length)), "°"))
    if found.coefficients.shape[1] > 2:
        rows.append(("bow along lines", found.bow * factor, unit))
    if means.size > 2:
        jumps = np.diff(means) - np.median(np.diff(means))
        rows.append(("jumps between lines, RMS", float(np.sqrt(np.mean(jumps**2))) * factor, unit))
    rows.append(("left of what counted, RMS", math.sqrt(squares / count) * factor if count else 0.0, unit))
    table = Table(f"Levelling of {image.name}", [Column("what"), Column("value", figures=4), Column("unit")])
    table.rows.extend(rows)
    return table
