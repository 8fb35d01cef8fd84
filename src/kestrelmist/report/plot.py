"""Curves as a plot, with axes and a legend, as lines and words."""

from __future__ import annotations

import math
from typing import Annotated

import numpy as np

from ..core.curve import Curve
from ..core.errors import Trouble
from ..core.left_out import LeftOut
from ..core.operation import operation
from ..core.parameter import Between, NewPath, Unit
from ..core.quantity import pretty_unit
from ..core.safe_write import require_new
from ..core.table import Column, Table
from ..scene.colours import packed
from ..scene.painting import painter_for, write_page
from ..scene.primitives import INK, Page, Path, Primitive, Stroke, Words
from .paper import INCH, LETTERS

DASHED: dict[str, tuple[float, ...]] = {"solid": (), "dashed": (6, 4), "dotted": (1.5, 3), "dash-dot": (6, 3, 1.5, 3)}
LEFT, RIGHT, TOP, BOTTOM = 62.0, 14.0, 12.0, 44.0
"""Page units round the plot."""


@operation(
    "report",
    "Plot as a picture",
    name="plot",
    keywords="graph chart curve line plot figure svg pdf export time course profile",
    called={"wide": "Wide", "dpi": "Dots an inch", "tall": "Tall", "replace_file": "In place of another"},
    rare="dpi tall replace_file low high",
    group="Pictures",
)
def plot(
    curves: list[Curve],
    *,
    to: NewPath,
    wide: Annotated[float, Unit("mm"), Between(20, 2000)] = 85.0,
    tall: Annotated[float | None, Unit("mm"), Between(10, 2000), LeftOut("two thirds of the width")] = None,
    dpi: Annotated[float, Between(20, 2400)] = 300.0,
    low: Annotated[float | None, LeftOut("by the curves")] = None,
    high: Annotated[float | None, LeftOut("by the curves")] = None,
    replace_file: bool = False,
) -> Table:
    """Write curves, such as courses and sections, as a plot with axes, units and names.

    Parameters
    ----------
    to : path
        A new file: .svg and .pdf keep lines and words as such; .png, .jpg, .tif.
    wide, tall : mm
        On paper.
    dpi : number
        Pixels to an inch.
    low, high : numbers
        Ends of the upright axis.
    replace_file : bool
        Take the place of a file of that name.

    Raises
    ------
    Trouble
        When there is no value, units differ, or the file cannot be written.
    """
    painter_for(to)
    require_new(to, replace_file)
    if not curves:
        raise Trouble("There is no curve to plot", "name one")
    units = {(one.along_unit, one.unit) for one in curves}
    if len(units) > 1:
        raise Trouble("These curves have other units", "plot those of one unit together")
    millimetres = INCH / dpi
    scale = LETTERS / millimetres
    size = max(32, round(wide / millimetres)), max(32, round((tall or wide * 2 / 3) / millimetres))
    over = plotted(curves, size[0] / scale, size[1] / scale, low, high)
    ground = np.full(size[::-1], packed("#FFFFFF"), np.uint32)
    names = ", ".join(one.name for one in curves)
    facts = (("Curves", names), ("Unit", curves[0].unit))
    write_page(Page(ground, over, scale, millimetres, names, facts, names), to)
    table = Table("Plot", [Column("curve"), Column("points"), Column("file")])
    table.rows += [(one.name, len(one.values), to.name) for one in curves]
    return table


def plotted(
    curves: list[Curve], wide: float, tall: float, low: float | None = None, high: float | None = None
) -> list[Primitive]:
    """Axes, curves and their names on a page of so many units. Raises Trouble when no curve has a value."""
    along = [_along(one) for one in curves]
    values = [np.asarray(one.values, float) for one in curves]
    there = [v[np.isfinite(v)] for v in values]
    if not any(len(v) for v in there):
        raise Trouble("These curves have no value", "choose others")
    x0, x1 = _ends(min(a.min() for a in along if len(a)), max(a.max() for a in along if len(a)))
    y0, y1 = _ends(min(v.min() for v in there if len(v)), max(v.max() for v in there if len(v)))
    room = 0.05 * (y1 - y0)
    y0, y1 = (y0 - room if low is None else low), (y1 + room if high is None else high)
    if not y1 > y0:
        raise Trouble(f"From {y0:g} to {y1:g} there is nothing", "give the lower end first")
    box = LEFT, TOP, wide - LEFT - RIGHT, tall - TOP - BOTTOM - 20 * (len(curves) > 1)

    def at(x: float, y: float) -> tuple[float, float]:
        return box[0] + (x - x0) / (x1 - x0) * box[2], box[1] + (1 - (y - y0) / (y1 - y0)) * box[3]

    found: list[Primitive] = []
    for value in ticks(y0, y1, max(2, int(box[3] / 30))):
        _, y = at(x0, value)
        found.append(Path(((box[0] - 4, y), (box[0], y)), Stroke(INK, 1.0)))
        found.append(Words((box[0] - 7, y), _said(value), 12, INK, "figures", "rm"))
    for value in ticks(x0, x1, max(2, int(box[2] / 60))):
        x, _ = at(value, y0)
        found.append(Path(((x, box[1] + box[3]), (x, box[1] + box[3] + 4)), Stroke(INK, 1.0)))
        found.append(Words((x, box[1] + box[3] + 8), _said(value), 12, INK, "figures", "ma"))
    corner = ((box[0], box[1]), (box[0], box[1] + box[3]), (box[0] + box[2], box[1] + box[3]))
    found.append(Path(corner, Stroke(INK, 1.2)))
    first = curves[0]
    what = "time" if first.along_unit == "s" else "place" if first.mark is not None else "number"
    sideways = f"{what} ({pretty_unit(first.along_unit)})" if first.along_unit else what
    found.append(Words((box[0] + box[2] / 2, box[1] + box[3] + 26), sideways, 12, INK, "600", "ma"))
    upright = pretty_unit(first.unit) or "value"
    found.append(Words((4, TOP - 2), upright, 12, INK, "600", "la"))
    for n, (a, v, one) in enumerate(zip(along, values, curves)):
        colour = one.colour
        for part in _parts(a, v, y0, y1):
            points = tuple(at(float(x), float(y)) for x, y in part)
            if len(points) > 1:
                found.append(Path(points, Stroke(colour, max(1.0, one.width), DASHED[one.dashes])))
        if len(curves) > 1:
            x = box[0] + n * box[2] / len(curves)
            y = tall - 10
            found.append(Path(((x, y - 4), (x + 14, y - 4)), Stroke(colour, 2.4, DASHED[one.dashes])))
            found.append(Words((x + 18, y), one.name[:24], 11, INK, "400", "ls"))
    return found


def _along(one: Curve) -> np.ndarray:
    return np.arange(1.0, len(one.values) + 1) if one.along is None else np.asarray(one.along, float)


def _ends(low: float, high: float) -> tuple[float, float]:
    return (float(low), float(high)) if high > low else (float(low) - 0.5, float(low) + 0.5)


def _parts(along: np.ndarray, values: np.ndarray, low: float, high: float) -> list[np.ndarray]:
    """The pieces of a curve that have values, cut to the plot."""
    sound = np.isfinite(values) & np.isfinite(along)
    whole = np.stack((along, np.clip(values, low, high)), 1)
    cuts = np.flatnonzero(np.diff(sound.astype(int))) + 1
    return [piece for piece, ok in zip(np.split(whole, cuts), np.split(sound, cuts)) if ok.all() and len(ok)]


def ticks(low: float, high: float, most: int) -> list[float]:
    """Round numbers between two, at most so many."""
    step = 10 ** math.floor(math.log10((high - low) / most))
    step *= next(times for times in (1, 2, 5, 10, 20) if (high - low) / (step * times) <= most)
    first = math.ceil(low / step - 1e-9)
    return [n * step for n in range(first, math.floor(high / step + 1e-9) + 1)]


def _said(value: float) -> str:
    return f"{value:.6g}".replace("-", "−")
