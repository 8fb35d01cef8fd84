"""The table of labels: a row for each label, image and volume of a series."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Any

import numpy as np

from ...core.digits import decimals_for, decimals_of
from ...core.errors import Trouble
from ...core.image import Image
from ...core.labels import Label, LabelMap
from ...core.on_grid import require_same_grid
from ...core.progress import Progress, silent
from ...core.scale import Scale, scale_of
from ...core.table import Column, Table
from ...scene.showing import display_range
from .columns import OF_VALUES, chosen_columns, column_of
from .elsewhere import By, how_told, on_grid_of
from .intensities import intensities
from .overlapping import overlaps
from .shapes import nearest, shapes, steps_of
from .spreads import shape_spreads
from .sums import RegionSums, region_sums, values_of


def labels_table(
    image: Image,
    labels: LabelMap,
    columns: str = "usual",
    others: Sequence[Image] = (),
    by: By = "world",
    background: float | None = None,
    overlap: LabelMap | None = None,
    progress: Progress = silent(),
) -> Table:
    """Measure labels on an image and others, all volumes of a series.

    See `measure_labels` for what is told. Raises Trouble when labels lie on another grid, another image does not meet
    it, or a column is not known.
    """
    require_same_grid(image, labels)
    progress.at(0.0, "Measuring")
    wanted = chosen_columns(columns, image.space)
    if background is not None and "total_over_background" not in wanted:
        wanted = (*wanted, "total_over_background")
    elif background is None and "total_over_background" in wanted:
        raise Trouble("The background is not known", "give the value that is taken off")
    rows = list(labels.table)
    numbers = np.array([row.number for row in rows], np.int64)
    found = region_sums(labels.kji, numbers, steps_of(image.space))
    progress.at(0.3)
    same = _of_regions(image, labels, found, wanted, overlap)
    seen = [image, *others]
    told = _told(seen, same, wanted, by)
    table = Table(f"{labels.name} on {image.name}", [column for column, _ in told])
    for n, one in enumerate(seen):
        part = progress.part(0.3 + 0.7 * n / len(seen), 0.3 + 0.7 * (n + 1) / len(seen))
        for place, valued, values in _values(one, image, labels, found, by, wanted, part):
            if background is not None:
                values["total_over_background"] = values["total"] - background * valued
            for m, row in enumerate(rows):
                here = _Here(one, place, row, m, values)
                table.rows.append(tuple(tell(here) for _, tell in told))
    return table


@dataclass(frozen=True)
class _Here:
    """What a row of the table is of: an image, its volume in words, a label and its place among them, and statistics of
    all labels by name."""

    image: Image
    place: tuple[str, ...]
    label: Label
    at: int
    values: dict[str, np.ndarray]


@dataclass(frozen=True)
class _Same:
    """What holds for regions whatever image is looked at: columns by name, and facts of the grid."""

    columns: dict[str, np.ndarray]
    spreads: dict[str, np.ndarray]
    size: np.ndarray
    spread: np.ndarray
    scale: Scale
    overlap: tuple[np.ndarray, list[str]] | None
    counts: np.ndarray


Tell = Callable[[_Here], Any]


def _of_regions(image, labels, found: RegionSums, wanted, overlap) -> _Same:
    what, cell, _ = image.space.extent
    scale = scale_of(image)
    size = found.counts * cell
    chance = np.sqrt(found.sums[:, 10]) / 2 * cell
    relative = _relative(scale, what == "volume")
    spread = np.hypot(chance, size * relative)
    made: dict[str, np.ndarray] = {}
    if any(name not in OF_VALUES and name != "total_over_background" for name in wanted):
        made = shapes(found, labels.kji, image.space, "feret" in wanted)
    if "nearest" in wanted:
        made["nearest"] = nearest(made)
    inside = overlaps(found, labels, overlap) if overlap is not None else None
    return _Same(made, shape_spreads(made, found, image.space, scale), size, spread, scale, inside, found.counts)


def _relative(scale: Scale, volume: bool) -> float:
    """Relative standard uncertainty that the scale alone gives an area or a volume."""
    x, y, z = (one if math.isfinite(one) else 0.0 for one in scale.sure)
    if scale.unit == "px":
        return 0.0
    flat = 2 * x if scale.together else math.hypot(x, y)
    return math.hypot(flat, z) if volume else flat


def _seen(volume: Image, series: Image) -> Image:
    """A volume of a series as the series is seen."""
    if series.through is not None and volume is not series:
        volume.through = series.through
    return volume


def _told(seen: list[Image], same: _Same, wanted: tuple[str, ...], by: By) -> list[tuple[Column, Tell]]:
    """The columns of the table, each with how its cell is told."""
    image = seen[0]
    what, cell, unit = image.space.extent
    digits, length = decimals_of(cell), decimals_of(min(image.space.spacing))
    of_value = decimals_for(*display_range(image)) + 1
    several = len({one.unit for one in seen}) > 1
    sure = f"{what}_uncertainty"
    told: list[tuple[Column, Tell]] = [
        (Column("subject"), lambda here: here.image.subject),
        (Column("image"), lambda here: here.image.name),
    ]
    axes = list(dict.fromkeys(axis.name for one in seen for axis in one.axes))
    told += [(Column(name), partial(_place, name=name)) for name in axes]
    told += [
        (Column("label"), lambda here: here.label.name),
        (Column("number", shown_as="no."), lambda here: here.label.number),
        (Column("voxels" if what == "volume" else "pixels"), lambda here: int(same.counts[here.at])),
        (Column(what, unit, digits, sure_by=sure), lambda here: float(same.size[here.at])),
        (Column(sure, unit, digits, shown_as="±", figures=2), lambda here: float(same.spread[here.at])),
    ]
    if unit == "mm3":
        cm3 = Column("volume_cm3", "cm3", digits + 2, shown_as="volume", sure_by=sure, sure_times=1e-3)
        told.append((cm3, lambda here: float(same.size[here.at]) / 1000))
    for name in wanted:
        column = column_of(name, image.space, "" if several else image.unit, of_value, length)
        if name not in same.spreads:
            told.append((column, partial(_cell, same=same, name=name)))
            continue
        how = f"{name}_uncertainty"
        told.append((replace(column, sure_by=how), partial(_cell, same=same, name=name)))
        how_sure = replace(column, name=how, shown_as="±", figures=2, hidden=True)
        told.append((how_sure, partial(_spread, same=same, name=name)))
    if several:
        told.append((Column("value_unit"), lambda here: here.image.unit))
    if same.overlap is not None:
        shares, names = same.overlap
        told += [(Column("overlap", "", 3), lambda here: float(shares[here.at])),
                 (Column("overlaps"), lambda here: names[here.at])]  # fmt: skip
    if len(seen) > 1:
        told.append((Column("regions_by"), lambda here: how_told(here.image, image, by)))
    if same.scale.magnification:
        told.append((Column("magnification", "", 3), lambda here: same.scale.magnification))
    told.append((Column("scale", hidden=not same.scale.calibration), lambda here: same.scale.words))
    return told


def _place(here: _Here, name: str) -> str | None:
    """Where along an axis of its series the volume of a row stands."""
    return next((at for axis, at in zip(here.image.axes, here.place) if axis.name == name), None)


def _cell(here: _Here, same: _Same, name: str) -> float | None:
    value = float((here.values if name in here.values else same.columns)[name][here.at])
    return value if math.isfinite(value) else None


def _spread(here: _Here, same: _Same, name: str) -> float | None:
    value = float(same.spreads[name][here.at])
    return value if math.isfinite(value) else None


def _values(
    one: Image, image: Image, labels: LabelMap, found: RegionSums, by: By, wanted, progress: Progress
) -> Iterator[tuple[tuple, np.ndarray, dict[str, np.ndarray]]]:
    """Of each volume of an image: its place along the axes in words, how many voxels have a value, and statistics."""
    needed = any(name in OF_VALUES or name == "total_over_background" for name in wanted)
    places = list(one.indices())
    for n, index in enumerate(places):
        progress.at(n / len(places), "Measuring")
        words = tuple(axis.words(at) for axis, at in zip(one.axes, index))
        if not needed:
            yield words, found.counts, {}
            continue
        volume = one.frame(index)
        kji = volume.kji if one is image else on_grid_of(_seen(volume, one), image, by)
        row, starts, ends = values_of(kji, labels.kji, found.numbers, found.counts)
        yield words, ends - starts, intensities(row, starts, ends)
