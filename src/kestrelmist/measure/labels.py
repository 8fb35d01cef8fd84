"""Volumes and intensities of labels."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from ..core.digits import decimals_for, decimals_of
from ..core.image import Image
from ..core.kernel import kernel
from ..core.labels import LARGEST, LabelMap
from ..core.on_grid import require_same_grid
from ..core.operation import operation
from ..core.progress import Progress, silent
from ..core.table import Column, Table
from ..scene.showing import display_range


@operation(
    "measure",
    "Measure labels",
    name="measure labels",
    keywords=(
        "volume mean statistics cm3 mm3 volumetry volume of labels region statistics roi statistics size area "
        "count voxels morphometry"
    ),
    group="Labels",
    methods="Volume, voxel count, mean and standard deviation were measured in every label",
)
def measure_labels(image: Image, labels: LabelMap, progress: Progress = silent()) -> Table:
    """Volume, voxel count, mean and standard deviation of the image in every label.

    The standard uncertainty of a volume follows its boundary: each boundary voxel is taken as lying in or out with
    equal chance and independent of its neighbours (a variance of 1/4 voxel each), so it covers chance at the
    boundary and not a limit set too high or too low.

    Returns
    -------
    Table
        One row a label: subject, image, label, number, voxels, volume in mm³ and cm³, uncertainty of the
        volume in mm³, mean and standard deviation in the image's unit. On a picture, pixels and areas; without a scale,
        both in pixels or voxels. Voxels without a finite value count for the size and not for the mean.
    """
    require_same_grid(image, labels)
    progress.at(0.0, "Measuring")
    numbers = np.array([row.number for row in labels.table], np.int64)
    place = np.full(LARGEST + 1, -1, np.int64)
    place[numbers] = np.arange(numbers.size)
    sums = np.zeros((numbers.size, 5))
    _sums(image.kji, labels.kji, place, sums)
    progress.at(0.9, "Measuring")
    what, cell, unit = labels.space.extent
    digits = decimals_of(cell)
    of_value = decimals_for(*display_range(image)) + 1
    in_cm3 = unit == "mm3"
    as_sure: dict[str, Any] = {"sure_by": "volume_uncertainty", "sure_times": 1e-3}
    table = Table(
        f"{labels.name} on {image.name}",
        [
            Column("subject"),
            Column("image"),
            Column("label"),
            Column("number", shown_as="no."),
            Column("voxels" if what == "volume" else "pixels"),
            Column(what, unit, digits, sure_by=f"{what}_uncertainty"),
            Column(f"{what}_uncertainty", unit, digits, shown_as="± chance", figures=2),
            *([Column("volume_cm3", "cm3", digits + 2, shown_as="volume", **as_sure)] if in_cm3 else []),
            Column("mean", image.unit, of_value),
            Column("sd", image.unit, of_value),
        ],
    )
    for row, (count, mean, squares, edge, valued) in zip(labels.table, sums):
        n = int(count)
        sd = math.sqrt(squares / (valued - 1)) if valued > 1 else None
        table.rows.append(
            (
                image.subject,
                image.name,
                row.name,
                row.number,
                n,
                n * cell,
                math.sqrt(edge) / 2 * cell,
                *([n * cell / 1000] if in_cm3 else []),
                float(mean) if valued else None,
                sd,
            )
        )
    return table


@kernel
def _sums(values, labels, place, sums):
    """Count, mean, sum of squared differences from the mean (Welford 1962), boundary voxels, voxels with a value."""
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
                if np.isfinite(value):
                    sums[row, 4] += 1
                    away = value - sums[row, 1]
                    sums[row, 1] += away / sums[row, 4]
                    sums[row, 2] += away * (value - sums[row, 1])
                # along an axis of one voxel there is nothing outside
                edge = (
                    (ni > 1 and (i == 0 or labels[k, j, i - 1] != number))
                    or (ni > 1 and (i == ni - 1 or labels[k, j, i + 1] != number))
                    or (nj > 1 and (j == 0 or labels[k, j - 1, i] != number))
                    or (nj > 1 and (j == nj - 1 or labels[k, j + 1, i] != number))
                    or (nk > 1 and (k == 0 or labels[k - 1, j, i] != number))
                    or (nk > 1 and (k == nk - 1 or labels[k + 1, j, i] != number))
                )
                if edge:
                    sums[row, 3] += 1
