"""Where the middles of labels lie in a standard space."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from ...core.chain import in_a_row, leads
from ...core.errors import Trouble
from ...core.image import Image
from ...core.labels import LabelMap
from ...core.mapping import Mapping
from ...core.overlap import apart
from ...core.table import Column, Table
from .shapes import steps_of
from .sums import region_sums


def in_standard(table: Table, image: Image, labels: LabelMap, standard: Image, way: Sequence[Mapping] | None) -> Table:
    """A table of labels with columns standard_x, standard_y and standard_z: where the way from the image's world to
    that of `standard` takes each label's middle. Empty where it says nothing.

    Raises
    ------
    Trouble
        When the two lie in different worlds and no way leads from one to the other.
    """
    here, there = image.space.world, standard.space.world
    numbers = np.array([row.number for row in labels.table], np.int64)
    sums = region_sums(labels.kji, numbers, steps_of(image.space)).sums
    with np.errstate(invalid="ignore", divide="ignore"):
        places = image.space.to_world(sums[:, 3:0:-1] / sums[:, :1])
    if way:
        whole = in_a_row(way, here, there)
        if not leads(whole, here, there):
            raise apart(image.name, here, standard.name, there)
        known = np.isfinite(places).all(1)
        places[known] = whole.to(places[known])
    elif here.id and there.id and not here.is_one_with(there):
        raise apart(image.name, here, standard.name, there)
    if standard.space.unit != "mm":
        raise Trouble(f"“{standard.name}” has no scale", "name an image of a standard space")
    place = {int(n): tuple(float(v) if np.isfinite(v) else None for v in at) for n, at in zip(numbers, places)}
    at = [column.name for column in table.columns].index("number")
    digits = next((c.digits for c in table.columns if c.name in "xyz" and c.digits is not None), 2)
    columns = [replace(Column(f"standard_{axis}", "mm", digits), shown_as=f"standard {axis}") for axis in "xyz"]
    end = len(table.columns) - 1  # before what says the scale
    made = [*table.columns[:end], *columns, *table.columns[end:]]
    rows = [(*row[:end], *place.get(int(row[at]), (None,) * 3), *row[end:]) for row in table.rows]
    return Table(f"{table.title}, middles in {standard.name}", made, rows)
