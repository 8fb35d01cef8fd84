"""Cells measured: a row a cell, with its shape and the values of every channel."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ...core.digits import decimals_for, decimals_of
from ...core.errors import Trouble
from ...core.image import Image
from ...core.labels import LabelMap
from ...core.on_grid import require_same_grid
from ...core.operation import operation
from ...core.progress import Progress, silent
from ...core.quantity import pretty_unit
from ...core.scale import scale_of
from ...core.table import Column, Table
from ...core.values import colour_channels
from .columns import OF_VALUES, column_of, known_columns
from .intensities import intensities
from .shapes import nearest, shapes, steps_of
from .sums import region_sums, values_of

OF_SHAPE = ("perimeter", "circularity", "elongation", "major_axis", "minor_axis", "feret", "x", "y", "nearest")
OF_CHANNELS = ("mean", "sd")
COLOURS = ("red", "green", "blue")
SMALL = 0.05
"""mm: pixels below are of microscopy, where lengths are told in µm."""
POWERS = {"mm": 1, "mm2": 2, "mm3": 3}


@operation(
    "measure",
    "Measure cells",
    name="measure-cells",
    keywords="cytometry single cell fluorescence channels count area shape circularity intensity per cell table nuclei",
    takes="series colour",
    version=2,
    called={"columns": "Of each channel"},
    group="Labels",
    methods="Shape and channel values of every cell were measured",
    cites=("Lehmann 2012", "Hyndman 1996"),
)
def measure_cells(image: Image, labels: LabelMap, columns: str = "mean, sd", *, progress: Progress = silent()) -> Table:
    """Size and shape of every cell, and what the values of each channel are in it; a row a cell.

    Cells are labels whose number occurs, of a name or not. A picture in colour has the channels red, green and blue; of
    a series its volumes are channels.

    Parameters
    ----------
    columns : text
        What is told of each channel, with commas between: mean, sd, median, mode, minimum, maximum, total, p5, p25,
        p75, p95, entropy.

    Returns
    -------
    Table
        number, label, size, shape, middle and distance to the nearest other cell; then of each channel what was chosen.
        The title says how many cells there are, and how many for each unit of area. On microscopy images, whose
        pixels are below 0.05 mm, lengths are in µm.

    Raises
    ------
    Trouble
        When labels lie on another grid, there are none, or a column is not known.
    """
    require_same_grid(image, labels)
    wanted = tuple(word.strip().casefold() for word in columns.split(",") if word.strip())
    wrong = next((word for word in wanted if word not in OF_VALUES), None)
    if wrong is not None:
        raise Trouble(f"Nothing is called “{wrong[:40]}” here", f"choose some of {', '.join(OF_VALUES)}")
    counts = np.bincount(labels.data.ravel(order="K"), minlength=2)
    numbers = np.flatnonzero(counts[1:]) + 1
    if not len(numbers):
        raise Trouble(f"“{labels.name}” has no cells yet", "find cells, or outline some")
    progress.at(0.1, "Measuring")
    space = image.space
    found = region_sums(labels.kji, numbers, steps_of(space))
    made = shapes(found, labels.kji, space)
    made["nearest"] = nearest(made)
    what, cell, unit = space.extent
    names = {row.number: row.name for row in labels.table}
    digits, length = decimals_of(cell), decimals_of(min(space.spacing))
    known = [name for name in OF_SHAPE if name in known_columns(space)]
    if space.flat_axis is None:
        known = ["surface", "sphericity", "elongation", "feret", "x", "y", "z", "nearest"]
    told = [Column("number"), Column("label"), Column(what, unit, digits)]
    told += [column_of(name, space, "", 3, length) for name in known]
    values: list = [numbers, np.array([names.get(int(n), "") for n in numbers], object), found.counts * cell]
    values += [made[name] for name in known]
    channels = list(_channels(image))
    for n, (channel, kji) in enumerate(channels):
        progress.at(0.3 + 0.7 * n / len(channels), "Measuring")
        row, starts, ends = values_of(kji, labels.kji, numbers, found.counts)
        measured = intensities(row, starts, ends)
        lowest, highest = (one[np.isfinite(one)] for one in (measured["minimum"], measured["maximum"]))
        of_value = decimals_for(float(lowest.min(initial=0)), float(highest.max(initial=1))) + 1
        for name in wanted:
            title = f"{name}_{channel}" if channel else name
            told.append(Column(title, "" if name == "entropy" else image.unit, of_value))
            values.append(measured[name])
    if space.unit == "mm" and max(space.spacing) < SMALL:
        told, values = in_micrometres(told, values)
    told += [Column("subject", hidden=True), Column("image", hidden=True), Column("scale", hidden=True)]
    values += [np.full(len(numbers), text, object) for text in (image.subject, image.name, scale_of(image).words)]
    return Table(_title(labels, image, len(numbers)), told, source=lambda: values, count=len(numbers))


def in_micrometres(columns: list[Column], values: list) -> tuple[list[Column], list]:
    """Columns in mm, mm² and mm³, in µm, µm² and µm³."""
    made, told = [], []
    for column, one in zip(columns, values):
        power = POWERS.get(column.unit, 0)
        if power:
            digits = None if column.digits is None else max(0, column.digits - 3 * power)
            column = replace(column, unit=column.unit.replace("mm", "µm"), digits=digits)
            one = one * 10.0 ** (3 * power)
        made.append(column)
        told.append(one)
    return made, told


def _title(labels: LabelMap, image: Image, count: int) -> str:
    what, cell, unit = image.space.extent
    whole = float(np.prod(image.space.shape)) * cell
    if unit in ("pixels", "voxels"):
        return f"{labels.name} on {image.name}: {count} cells"
    return f"{labels.name} on {image.name}: {count} cells, {count / whole:.4g} a {pretty_unit(unit)}"


def _channels(image: Image):
    """Names of channels, and their values [k, j, i] one after another."""
    if image.colour:
        for n, name in enumerate(COLOURS):
            yield name, np.ascontiguousarray(colour_channels(image.frame().kji)[..., n])
        return
    for index in image.indices():
        words = ", ".join(axis.words(at) for axis, at in zip(image.axes, index))
        yield words.replace(" ", "_"), image.frame(index).kji
