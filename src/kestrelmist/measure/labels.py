"""Volumes and intensities of labels."""

from __future__ import annotations

import math

import numba
import numpy as np

from ..core.image import Image
from ..core.labels import LARGEST, LabelMap
from ..core.operation import operation
from ..core.progress import Progress, silent
from ..core.table import Column, Table
from ..core.on_grid import require_same_grid


@operation("measure", "Measure labels", name="measure labels", keywords="volume mean statistics cm3 mm3")
def measure_labels(image: Image, labels: LabelMap, progress: Progress = silent()) -> Table:
    """Volume, voxel count, mean and standard deviation of the image in every label.

    The standard uncertainty of a volume follows its boundary: each boundary voxel is taken as lying in or out with
    equal chance and independent of its neighbours (a variance of 1/4 voxel each), so it covers chance at the
    boundary and not a limit set too high or too low.

    Returns
    -------
    Table
        One row a label: subject, image, label, number, voxels, volume in mm³ and cm³, uncertainty of the
        volume in mm³, mean and standard deviation in the image's unit.
    """
    require_same_grid(image, labels)
    progress.at(0.0, "Measuring")
    numbers = np.array([row.number for row in labels.table], np.int64)
    place = np.full(LARGEST + 1, -1, np.int64)
    place[numbers] = np.arange(numbers.size)
    sums = np.zeros((numbers.size, 4))
    _sums(image.kji, labels.kji, place, sums)
    progress.at(0.9, "Measuring")
    unit, voxel = image.unit, labels.space.voxel_volume
    table = Table(f"Labels on {image.name}", [
        Column("subject"), Column("image"), Column("label"), Column("number", shown_as="no."), Column("voxels"),
        Column("volume", "mm3", 3), Column("volume_uncertainty", "mm3", 3, shown_as="± chance"),
        Column("volume_cm3", "cm3", 5, shown_as="volume"),
        Column("mean", unit, 2), Column("sd", unit, 2)])
    for row, (count, mean, squares, edge) in zip(labels.table, sums):
        n = int(count)
        sd = math.sqrt(squares / (n - 1)) if n > 1 else math.nan
        table.rows.append((image.subject, image.name, row.name, row.number, n, n * voxel, math.sqrt(edge) / 2 * voxel,
                           n * voxel / 1000, float(mean) if n else None, None if math.isnan(sd) else sd))
    return table


@numba.njit(nogil=True, cache=True)
def _sums(values, labels, place, sums):
    """Count, mean, sum of squared differences from the mean (Welford 1962), boundary voxels."""
    nk, nj, ni = labels.shape
    for k in range(nk):
        for j in range(nj):
            for i in range(ni):
                number = labels[k, j, i]
                row = place[number]
                if row < 0:
                    continue
                value = np.float64(values[k, j, i])
                sums[row, 0] += 1
                away = value - sums[row, 1]
                sums[row, 1] += away / sums[row, 0]
                sums[row, 2] += away * (value - sums[row, 1])
                edge = (i == 0 or labels[k, j, i - 1] != number or i == ni - 1 or labels[k, j, i + 1] != number
                        or j == 0 or labels[k, j - 1, i] != number or j == nj - 1 or labels[k, j + 1, i] != number
                        or k == 0 or labels[k - 1, j, i] != number or k == nk - 1 or labels[k + 1, j, i] != number)
                if edge:
                    sums[row, 3] += 1
