"""Cells counted in regions: how many, how dense, how far from one another."""

from __future__ import annotations

from typing import Annotated

import numpy as np

from ...core.errors import Trouble
from ...core.image import Image
from ...core.labels import LabelMap
from ...core.on_grid import require_same_grid
from ...core.operation import operation
from ...core.parameter import Role
from ...core.quantity import measure_unit, pretty_unit
from ...core.scale import scale_of
from ...core.table import Column, Table
from ..count_marks import OUTSIDE, poisson_interval
from .shapes import nearest, steps_of
from .sums import region_sums

WHOLE = "whole image"


@operation(
    "measure",
    "Count cells",
    name="count-cells",
    keywords="density per area cells within regions stereology neighbours spacing per label",
    called={"labels": "Cells", "regions": "Within"},
    group="Labels",
    methods="Cells were counted in regions, with exact Poisson intervals",
    cites=("Garwood 1936",),
)
def count_cells(image: Annotated[Image, Role("grid")], labels: LabelMap, regions: LabelMap | None = None) -> Table:
    """Count cells in each region, or in the whole image: a cell belongs where its middle lies.

    The interval holds the true mean of such counts 95 times of 100 when cells lie independently of each other (F.
    Garwood, Biometrika 28, 1936).

    Parameters
    ----------
    labels : label map
        A number each cell.
    regions : label map
        In whose labels they are counted; the whole image when left out.

    Returns
    -------
    Table
        Region, cells, interval, area or volume, cells for each unit of it with the same interval, and the mean and SD
        of the distance from a cell's middle to that of the nearest other one.

    Raises
    ------
    Trouble
        When there are no cells, or the labels lie on other grids.
    """
    require_same_grid(image, labels)
    numbers = np.flatnonzero(labels.counts[1:]) + 1
    if not len(numbers):
        raise Trouble(f"“{labels.name}” has no cells yet", "find cells, or outline some")
    space = image.space
    found = region_sums(labels.kji, numbers, steps_of(space))
    voxels = found.sums[:, 3:0:-1] / found.sums[:, :1]  # i, j, k
    apart = nearest(dict(zip("xyz", space.to_world(voxels).T)))
    what, cell, unit = space.extent
    rooms = [(WHOLE, float(np.prod(space.shape)) * cell, np.ones(len(numbers), bool))]
    if regions is not None:
        require_same_grid(image, regions)
        at = tuple(np.clip(np.rint(voxels).astype(int), 0, np.array(space.shape) - 1).T)
        inside = regions.data[at]
        rooms = [(row.name, float(regions.counts[row.number]) * cell, inside == row.number) for row in regions.table]
        known = [row.number for row in regions.table]
        rooms.append((OUTSIDE, float(regions.counts[0]) * cell, ~np.isin(inside, known)))
    length = measure_unit(space.unit, 1)
    columns = [
        Column("region"), Column("cells"), Column("low", figures=4), Column("high", figures=4),
        Column(what, unit, figures=5), Column("density", f"per {unit}", figures=4),
        Column("density_low", f"per {unit}", figures=4), Column("density_high", f"per {unit}", figures=4),
        Column("nearest", length, figures=4), Column("nearest_sd", length, figures=3),
        Column("subject", hidden=True), Column("image", hidden=True), Column("scale", hidden=True),
    ]  # fmt: skip
    rows = []
    for name, room, mine in rooms:
        count = int(mine.sum())
        low, high = poisson_interval(count)
        away = apart[mine][np.isfinite(apart[mine])]
        spread = float(away.std(ddof=1)) if len(away) > 1 else None
        dense = [one / room if room else None for one in (count, low, high)]
        near = float(away.mean()) if len(away) else None
        rows.append((name, count, low, high, room, *dense, near, spread, image.subject, image.name,
                     scale_of(image).words))  # fmt: skip
    total = f"{len(numbers)} cell{'' if len(numbers) == 1 else 's'}"
    whole = len(numbers) / (float(np.prod(space.shape)) * cell)
    return Table(f"{labels.name} on {image.name}: {total}, {whole:.4g} per {pretty_unit(unit)}", columns, rows)
