"""Labels measured: size, shape, and the values of one image or several in them."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np

from ...core.image import Image
from ...core.labels import LabelMap
from ...core.left_out import Leads, LeftOut, SeenFrom
from ...core.mapping import Mapping
from ...core.on_grid import require_same_grid
from ...core.operation import operation
from ...core.parameter import Role, Unit
from ...core.progress import Progress, silent
from ...core.table import Table
from .elsewhere import By
from .in_standard import in_standard
from .labels_table import labels_table
from .shapes import steps_of
from .slices import slice_rows
from .sums import region_sums

Each = Literal["label", "label and slice"]


@operation(
    "measure",
    "Measure labels",
    name="measure-labels",
    keywords=(
        "volume mean statistics cm3 mm3 volumetry volume of labels region statistics roi statistics size area "
        "count voxels morphometry surface sphericity entropy percentile median feret diameter"
    ),
    version=2,
    called={
        "others": "On other images too",
        "by": "Regions go along by",
        "each": "A row for each",
        "overlap": "Overlap with",
        "standard": "Middle in the space of",
        "way": "Through",
        "background": "Background",
    },
    rare="each others by background overlap standard way",
    group="Labels",
    methods="Volume, voxel count, mean and standard deviation were measured in every label",
    cites=("Lehmann 2012", "Hyndman 1996"),
    once=("measure labels",),
)
def measure_labels(
    image: Image,
    labels: LabelMap,
    columns: str = "usual",
    *,
    each: Each = "label",
    others: Annotated[list[Image] | None, SeenFrom("image")] = None,
    by: By = "world",
    background: Annotated[float | None, Unit("value"), LeftOut("not taken off")] = None,
    overlap: LabelMap | None = None,
    standard: Annotated[Image | None, Role("grid")] = None,
    way: Annotated[list[Mapping] | None, Leads("image", "standard")] = None,
    progress: Progress = silent(),
) -> Table:
    """Size and shape of every label, and what the values of the image are in it.

    The standard uncertainty of a volume follows its boundary: each boundary voxel is taken as lying in or out with
    equal chance and independent of its neighbours (a variance of 1/4 voxel each), so it covers chance at the
    boundary and not a limit set too high or too low; that of the scale comes to it where it is known.

    Mean, SD, median, percentiles, mode, entropy: as `intensities` defines them. Surface and perimeter are those of a
    smooth border and not of voxel faces (Crofton's formula); axes, elongation, sphericity and Feret: as `shapes`
    defines them. nearest: from the middle of a label to that of the nearest other one.

    Parameters
    ----------
    columns : text
        "usual", "all", or names of columns with commas between: mean, sd, median, mode, minimum, maximum, total, p5,
        p25, p75, p95, entropy, surface (perimeter), sphericity (circularity), elongation, flatness, axes, feret,
        extent, x, y, z, i, j, k, nearest.
    each : text
        A row a label, or a row a label and slice, with its area there.
    others : images
        Further images whose values are wanted in the very same regions.
    by : text
        How regions go to those: by their place in the world, or voxel by voxel.
    background : value
        What is taken off each value for the total over background.
    overlap : labels
        Another label map: how much of each label lies in its labels, and in which most.
    standard : image
        One of a standard space: where the middle of each label lies in that.
    way : transforms
        From the world of the image to that space; the way that the study knows when left out.

    Returns
    -------
    Table
        One row a label (and image): subject, image, label, number, voxels, volume in mm³ and
        cm³, standard uncertainty of the volume in mm³, and the columns that were chosen. On a picture, pixels and
        areas; without a scale, both in pixels or voxels. Voxels without a finite value count for the size alone.

    Raises
    ------
    Trouble
        When labels lie on another grid, another image does not meet it, or a column is not known.
    """
    if each == "label":
        table = labels_table(image, labels, columns, others or [], by, background, overlap, progress)
        return table if standard is None else in_standard(table, image, labels, standard, way)
    require_same_grid(image, labels)
    numbers = np.array([row.number for row in labels.table], np.int64)
    return slice_rows(image, labels, region_sums(labels.kji, numbers, steps_of(image.space)))


@operation(
    "measure",
    "Labels through a series",
    name="measure-series",
    keywords="time course channels series dynamic frames statistics roi mean every volume time points fluorescence",
    takes="series",
    called={"columns": "Values told", "background": "Background"},
    rare="background",
    group="Labels",
    methods="Values were measured in every label and every volume",
    cites=("Hyndman 1996",),
)
def measure_series(
    image: Image,
    labels: LabelMap,
    columns: str = "usual",
    *,
    background: Annotated[float | None, Unit("value"), LeftOut("not taken off")] = None,
    progress: Progress = silent(),
) -> Table:
    """What the values are in every label, in each volume of a series: each time, channel, echo.

    Parameters
    ----------
    columns : text
        As for `measure-labels`: "usual", "all", or names with commas between.
    background : value
        What is taken off each value for the total over background.

    Returns
    -------
    Table
        One row a label and volume, with its place along each axis of the series.

    Raises
    ------
    Trouble
        When labels lie on another grid, or a column is not known.
    """
    return labels_table(image, labels, columns, (), "world", background, None, progress)
