"""Marks counted by class: how many, how sure that is, and how dense they lie."""

from __future__ import annotations

from typing import Annotated

import numpy as np

from ..core.class_table import ClassTable
from ..core.errors import Trouble
from ..core.geometry.mark import Mark
from ..core.geometry.marks import Marks
from ..core.geometry.on_image import require_on
from ..core.image import Image
from ..core.labels import LabelMap
from ..core.left_out import OwnerOf
from ..core.on_grid import require_same_grid
from ..core.operation import operation
from ..core.parameter import Role
from ..core.quantity import pretty_unit
from ..core.table import Column, Table

NO_CLASS, OUTSIDE = "none", "outside"


@operation(
    "measure",
    "Count marks",
    name="count-marks",
    keywords="counter count cells points classes density per area stereology tally number of landmarks",
    called={"shape": "Shape", "classes": "Class table", "labels": "Within labels"},
    rare="shape classes labels",
    group="Marks",
    methods="Marks were counted by class, with exact Poisson intervals",
    cites=("Garwood 1936",),
)
def count_marks(
    marks: Marks,
    image: Annotated[Image, Role("grid"), OwnerOf("marks")],
    shape: str = "point",
    *,
    classes: ClassTable | None = None,
    labels: LabelMap | None = None,
) -> Table:
    """Count marks, a row a class; or a row a label and class, of the marks that lie in each label.

    The interval holds the true mean of such counts 95 times of 100 when marks fall independently of each other
    (F. Garwood, Biometrika 28, 1936).

    Parameters
    ----------
    image : image
        The one that the marks are of.
    shape : text
        Which marks count: point, polygon … ; "all" for every one. One of several points lies where its middle is.
    classes : class table
        What classes are called.
    labels : label map
        Count within its labels.

    Returns
    -------
    Table
        Class, name, count, interval, share of all, and how many there are for each unit of area or volume of the image,
        or of the label.

    Raises
    ------
    Trouble
        When there is no such mark, or the labels lie on another grid.
    """
    require_on(marks, image)
    wanted = shape.strip().casefold()
    counted = [mark for mark in marks if wanted in ("all", "", mark.shape, _as_line(mark.shape))]
    if not len(marks):
        raise Trouble(f"There are no marks in “{marks.name}”", "draw some first")
    if not counted:
        raise Trouble(f"“{marks.name}” has no marks of the shape “{shape[:40]}”", "draw some, or count all")
    names = {} if classes is None else {row.number: row.name for row in classes.rows}
    kinds = sorted({mark.cls for mark in counted})
    _, cell, unit = image.space.extent
    size = cell * float(np.prod(image.space.shape))
    regions = [("", size, np.ones(len(counted), bool))] if labels is None else _regions(counted, image, labels, cell)
    of_class = np.array([mark.cls for mark in counted])
    columns = [Column("label")] if labels is not None else []
    columns += [Column("class"), Column("name"), Column("count"), Column("low", figures=4), Column("high", figures=4)]
    columns += [Column("share", "%", 1), Column("density", f"per {unit}", figures=4), Column("subject", hidden=True)]
    columns += [Column("image", hidden=True)]
    rows = []
    for region, room, inside in regions:
        whole = int(inside.sum())
        for kind in kinds:
            count = int((inside & (of_class == kind)).sum())
            low, high = poisson_interval(count)
            told = kind, names.get(kind, "") if kind else NO_CLASS, count, low, high
            row = (*told, 100 * count / whole if whole else None, count / room if room else None)
            rows.append((*((region,) if labels is not None else ()), *row, image.subject, image.name))
    total = f"{len(counted)} mark{'' if len(counted) == 1 else 's'}"
    return Table(
        f"{marks.name} on {image.name}: {total}, {len(counted) / size:.4g} per {pretty_unit(unit)}", columns, rows
    )


def poisson_interval(count: int, confidence: float = 0.95) -> tuple[float, float]:
    """Between what the mean of such counts lies (F. Garwood, Biometrika 28, 1936)."""
    from scipy.special import gammaincinv

    tail = (1 - confidence) / 2
    low = float(gammaincinv(count, tail)) if count else 0.0
    return low, float(gammaincinv(count + 1, 1 - tail))


def _as_line(shape: str) -> str:
    return "length" if shape == "line" else shape


def _regions(marks: list[Mark], image: Image, labels: LabelMap, cell: float) -> list[tuple[str, float, np.ndarray]]:
    """Each label with its area, and which marks lie in it; last what lies in none."""
    require_same_grid(image, labels)
    voxels = np.rint(image.space.to_voxel(np.array([mark.middle for mark in marks]))).astype(int)
    there = ((voxels >= 0) & (voxels < image.space.shape)).all(1)
    number = np.zeros(len(marks), int)
    number[there] = labels.data[tuple(voxels[there].T)]
    found = [(row.name, float(labels.counts[row.number]) * cell, number == row.number) for row in labels.table]
    outside = ~np.isin(number, [row.number for row in labels.table])
    return [*found, (OUTSIDE, float(labels.counts[0]) * cell, outside)]
