"""Marks measured: lengths, areas, angles with their uncertainty, and the values of images in them."""

from __future__ import annotations

import math
from collections.abc import Iterable
from typing import Annotated

import numpy as np

from ...core.digits import decimals_for
from ...core.errors import Trouble
from ...core.geometry.amounts import DIMENSIONS
from ...core.geometry.filled import covered
from ...core.geometry.mark import Mark
from ...core.geometry.marks import Marks
from ...core.geometry.measured import Measured, is_fine, measured, placed_to
from ...core.geometry.on_image import require_on
from ...core.geometry.shape import shape_named
from ...core.image import Image
from ...core.left_out import Found, LeftOut, OwnerOf, SeenFrom
from ...core.operation import operation
from ...core.parameter import Between, Unit
from ...core.progress import Progress, silent
from ...core.quantity import FINER, measure_unit
from ...core.scale import scale_of
from ...core.table import Column, Table
from ...scene.showing import display_range
from ..tidy import Rows, by_quantity
from .elsewhere import By, how_told, on_grid_of
from .intensities import NAMES, intensities

USUAL = ("mean", "sd", "minimum", "maximum")


def _placed(given: dict) -> Found | None:
    image = given.get("image")
    return None if image is None else Found(placed_to(image.space), "a uniform one of a voxel")


@operation(
    "measure",
    "Measure marks",
    name="measure-marks",
    keywords="length distance angle area perimeter diameter roi region of interest statistics mean ruler caliper",
    called={
        "placed": "Points ±",
        "rows": "A row for",
        "others": "On other images too",
        "by": "Marks go along by",
        "columns": "Values told",
    },
    rare="placed rows others by",
    group="Marks",
    methods="Lengths, areas and angles were measured, with uncertainties of scale and placing carried through",
    cites=("JCGM 100:2008",),
)
def measure_marks(
    marks: Marks,
    image: Annotated[Image, OwnerOf("marks")],
    columns: str = "usual",
    *,
    rows: Rows = "one region",
    placed: Annotated[float | None, Unit("mm"), Between(0, 1e6), LeftOut("to a voxel", find=_placed)] = None,
    others: Annotated[list[Image] | None, SeenFrom("image")] = None,
    by: By = "world",
    progress: Progress = silent(),
) -> Table:
    """Lengths, areas, perimeters, angles and volumes of marks, and what values lie in them.

    Uncertainties are those within which the true value lies 95 times of 100: of the scale, as far as it is known, and
    of where points were placed. Without a scale, lengths are in pixels. Values are those of voxels whose middle lies in
    a closed mark, or that an open line runs through.

    Parameters
    ----------
    columns : text
        What is told of values: "usual" (mean, sd, minimum, maximum), "all", "none", or names with commas between: mean,
        sd, median, mode, minimum, maximum, total, p5, p25, p75, p95, entropy.
    rows : text
        A row a mark, or a row for each of its quantities.
    placed : mm
        Standard uncertainty of points along each axis, of marks that do not say it themselves.
    others : images
        Further images whose values are wanted in the very same marks.
    by : text
        How marks go to those: by their place in the world, or voxel by voxel.

    Returns
    -------
    Table
        A row a mark (and image): subject, image, number, name, shape, class, its measures with
        expanded uncertainties, voxels, values, and where the scale is from.

    Raises
    ------
    Trouble
        When there are no marks, or they lie in another world or unit than the image.
    """
    if not len(marks):
        raise Trouble(f"There are no marks in “{marks.name}”", "draw some first")
    require_on(marks, image)
    scale = scale_of(image)
    placed = placed_to(image.space) if placed is None else placed
    wanted = _chosen(columns)
    sizes = [measured(mark, scale, placed) for mark in marks]
    names = [name for name in DIMENSIONS if any(one.name == name for found in sizes for one in found)]
    fine = image.space.unit == "mm" and is_fine(placed_to(image.space))
    seen = [image, *(others or [])]
    table = Table(f"{marks.name} on {image.name}", _columns(seen, scale, names, wanted, fine))
    for n, one in enumerate(seen):
        part = progress.part(n / len(seen), (n + 1) / len(seen))
        for place, values in _values(one, image, list(marks), by, wanted, part):
            for mark, found, (count, told) in zip(marks, sizes, values):
                here = {m.name: m for m in found}
                row: list = [one.subject, one.name, *place, mark.id, mark.name, _title(mark), mark.cls or None]
                for name in names:
                    row += _cells(here.get(name), fine, _unit(name, scale.unit, fine))
                row += [count, *(told.get(name) for name in wanted)] if wanted else []
                row += [one.unit] if len({other.unit for other in seen}) > 1 else []
                row += [how_told(one, image, by)] if len(seen) > 1 else []
                row += [scale.magnification] if scale.magnification else []
                table.rows.append((*row, scale.words))
    return by_quantity(table) if rows == "one quantity" else table


@operation(
    "measure",
    "Marks through a series",
    name="measure-marks-series",
    keywords="time course channels series statistics every volume frames fluorescence over time dynamic marks",
    takes="series",
    called={"columns": "Values told"},
    group="Marks",
    methods="Values were measured in every mark and every volume",
    cites=("JCGM 100:2008",),
)
def measure_marks_series(
    marks: Marks,
    image: Annotated[Image, OwnerOf("marks")],
    columns: str = "usual",
    *,
    progress: Progress = silent(),
) -> Table:
    """What `measure-marks` tells, in each volume of a series: each time, channel, echo. A mark of one volume counts in
    that alone.

    Parameters
    ----------
    columns : text
        What is told of values: "usual" (mean, sd, minimum, maximum), "all", or names with commas between.

    Returns
    -------
    Table
        A row a mark and volume, with its place along each axis of the series.

    Raises
    ------
    Trouble
        When there are no marks, or they lie in another world or unit than the image.
    """
    return measure_marks(marks, image, columns, progress=progress)


def _chosen(text: str) -> tuple[str, ...]:
    words = [word.strip().casefold() for word in text.split(",") if word.strip()]
    if words in ([], ["usual"]):
        return USUAL
    if words in (["all"], ["none"]):
        return NAMES if words == ["all"] else ()
    wrong = next((word for word in words if word not in NAMES), None)
    if wrong is not None:
        raise Trouble(f"Nothing is called “{wrong[:40]}” here", f"choose usual, all, none, or of {', '.join(NAMES)}")
    return tuple(name for name in NAMES if name in words)


def _unit(name: str, unit: str, fine: bool) -> str:
    if not DIMENSIONS[name]:
        return "deg"
    whole = measure_unit(unit, DIMENSIONS[name])
    return FINER[whole][0] if fine and whole in FINER else whole


def _columns(seen: list[Image], scale, names: Iterable[str], wanted, fine: bool) -> list[Column]:
    image = seen[0]
    axes = dict.fromkeys(axis.name for one in seen for axis in one.axes)
    columns = [Column("subject"), Column("image"), *map(Column, axes), Column("mark"), Column("name"), Column("shape")]
    columns.append(Column("class"))
    for name in names:
        unit, sure = _unit(name, scale.unit, fine), f"{name}_uncertainty"
        columns += [Column(name, unit, figures=5, sure_by=sure), Column(sure, unit, shown_as="± (95 %)", figures=2)]
    several = len({one.unit for one in seen}) > 1
    if wanted:
        columns.append(Column("voxels" if image.space.flat_axis is None else "pixels"))
    digits = decimals_for(*display_range(image)) + 1
    columns += [Column(name, "" if name == "entropy" or several else image.unit, digits) for name in wanted]
    columns += [Column("value_unit")] if several else []
    columns += [Column("regions_by")] if len(seen) > 1 else []
    columns += [Column("magnification", "", 3)] if scale.magnification else []
    return [*columns, Column("scale")]


def _title(mark: Mark) -> str:
    return shape_named(mark.shape).title.lower()


def _cells(found: Measured | None, fine: bool, unit: str) -> list[float | None]:
    if found is None:
        return [None, None]
    times = FINER[found.unit][1] if found.unit != unit else 1.0
    spread = found.expanded * times
    return [found.value * times, spread if spread > 0 else None]


def _values(one: Image, image: Image, marks: list[Mark], by: By, wanted, progress: Progress):
    """Of each volume of an image: its place along the axes in words; and of each mark how many voxels it covers, and
    statistics by name."""
    places = list(one.indices())
    parts = [covered(mark, image.space) if wanted else None for mark in marks]
    for n, index in enumerate(places):
        progress.at(n / len(places), "Measuring")
        words = tuple(axis.words(at) for axis, at in zip(one.axes, index))
        if not wanted:
            yield words, [(None, {})] * len(marks)
            continue
        volume = one.frame(index)
        volume.through = one.through
        kji = volume.kji if one is image else on_grid_of(volume, image, by)
        found: list[tuple[int | None, dict]] = []
        for mark, part in zip(marks, parts):
            of_volume = mark.place is None or not index or mark.place == tuple(index)
            if part is None or not of_volume:
                found.append((0 if of_volume else None, {}))
                continue
            values = kji[part.part][part.mask > 0]
            finite = np.ascontiguousarray(values[np.isfinite(values)])
            told = intensities(finite, np.array([0]), np.array([finite.size]))
            found.append((int(values.size), {name: _known(v[0]) for name, v in told.items()}))
        yield words, found


def _known(value: float) -> float | None:
    return float(value) if math.isfinite(value) else None
