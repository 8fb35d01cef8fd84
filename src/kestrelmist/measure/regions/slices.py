"""The area of each label in each slice of its grid, and the mean of the values there."""

from __future__ import annotations

import numpy as np

from ...core.digits import decimals_for, decimals_of
from ...core.image import Image
from ...core.kernel import kernel
from ...core.labels import LabelMap
from ...core.quantity import measure_unit
from ...core.scale import scale_of
from ...core.table import Column, Table
from ...scene.showing import display_range
from .sums import RegionSums, slots_of


def slice_rows(image: Image, labels: LabelMap, found: RegionSums) -> Table:
    """A row for each label and slice along k that it lies in: its area there, and the mean of the image's values."""
    space = image.space
    volume = image.frame()
    counts = np.zeros((len(found.numbers), space.shape[2], 2))
    sums = np.zeros((len(found.numbers), space.shape[2]))
    _count(volume.kji, labels.kji, slots_of(found.numbers), counts, sums)
    cell = 1.0 if space.unit == "px" else float(np.linalg.norm(np.cross(space.affine[:3, 0], space.affine[:3, 1])))
    digits = decimals_of(cell)
    of_value = decimals_for(*display_range(image)) + 1
    columns = [Column("subject"), Column("image"), Column("label"), Column("number", shown_as="no."), Column("slice")]
    columns += [Column(axis, space.unit, decimals_of(min(space.spacing)) + 1, hidden=True) for axis in "xyz"]
    columns += [Column("pixels"), Column("area", measure_unit(space.unit, 2), digits)]
    columns += [Column("mean", image.unit, of_value), Column("scale", hidden=True)]
    table = Table(f"{labels.name} on {image.name}, slice by slice", columns)
    middle = (np.array(space.shape[:2]) - 1) / 2
    words = scale_of(image).words
    for n, row in enumerate(labels.table):
        for k in np.flatnonzero(counts[n, :, 0]):
            pixels, valued = counts[n, k]
            at = space.to_world((*middle, k))
            mean = float(sums[n, k] / valued) if valued else None
            table.rows.append(
                (image.subject, image.name, row.name, row.number, int(k), *map(float, at), int(pixels),
                 float(pixels * cell), mean, words)
            )  # fmt: skip
    return table


@kernel
def _count(values, labels, place, counts, sums):
    nk, nj, ni = labels.shape
    for k in range(nk):
        for j in range(nj):
            for i in range(ni):
                row = place[labels[k, j, i]]
                if row >= 0:
                    counts[row, k, 0] += 1
                    value = np.float64(values[k, j, i])
                    if np.isfinite(value):
                        counts[row, k, 1] += 1
                        sums[row, k] += value
