"""Where two label maps disagree, place by place."""

from __future__ import annotations

from typing import Annotated

import numpy as np

from ..core.digits import decimals_of
from ..core.label_boxes import boxes_of, wider
from ..core.labels import LabelMap
from ..core.operation import operation
from ..core.parameter import Between, LabelName, Unit
from ..core.progress import Progress, silent
from ..core.table import Column, Table
from .compare import in_common

MOST = 5000
"""Places that are listed, the largest; more are counted in the last row."""


@operation(
    "outline",
    "List disagreements",
    name="list-disagreements",
    keywords="difference between raters versions inter-rater where compare step through colleague",
    called={"other": "Compare with", "thick": "At least this thick"},
    rare="thick",
    group="Label maps",
    methods="Places where label maps differ were listed by size",
)
def list_disagreements(
    labels: LabelMap,
    other: LabelMap,
    label: LabelName | None = None,
    *,
    thick: Annotated[float, Unit("mm"), Between(0, 1e6)] = 0.0,
    progress: Progress = silent(),
) -> Table:
    """List the places where labels of the same name differ, the largest first; a click on a row goes there.

    A place is a piece of voxels, connected through their corners, that are of the label in one map only. A label map
    on another grid is brought onto the first one's by world position.

    Parameters
    ----------
    other : label map
        The one to compare with.
    label : text
        One label alone; all that have a name in both when left out.
    thick : mm
        Pieces that are nowhere thicker are left out: a rim of one voxel is 1 voxel thick.

    Returns
    -------
    Table
        Label, which map has it there, position of the thickest voxel, size and thickness (twice the largest distance
        to where the maps agree).

    Raises
    ------
    Trouble
        When the maps have no label in common, or lie in worlds of different units.
    """
    there, pairs = in_common(labels, other, label)
    space = labels.space
    what, cell, unit = space.extent
    digits = decimals_of(min(space.spacing)) + 1
    columns = [Column("label"), Column("only_in", shown_as="only in")]
    columns += [Column(axis, space.unit, digits) for axis in "xyz"]
    columns += [Column(what, unit, decimals_of(cell)), Column("thickness", space.unit, digits)]
    table = Table(f"Where {labels.name} and {other.name} differ", columns)
    boxes = [boxes_of(one.kji) for one in (labels, there)]
    for row, fellow in progress.over(pairs, what="Comparing"):
        for only, kept, mine, number, fellow_number in (
            (labels, there, boxes[0], row.number, fellow.number),
            (there, labels, boxes[1], fellow.number, row.number),
        ):
            if number not in mine:
                continue
            box = wider(mine[number], (1, 1, 1), labels.kji.shape)
            apart = (only.kji[box] == number) & (kept.kji[box] != fellow_number)
            name = labels.name if only is labels else other.name
            table.rows += [(row.name, name, *found) for found in _places(apart, box, space, cell, thick)]
    table.rows.sort(key=lambda r: (-r[5], -r[6]))
    if len(table.rows) > MOST:
        table.title += f" ({MOST:,} largest of {len(table.rows):,} places)"
        del table.rows[MOST:]
    return table


def _places(apart: np.ndarray, box, space, cell: float, thick: float) -> list[tuple[float, ...]]:
    """Position, size and thickness of each piece of a mask."""
    from scipy import ndimage

    pieces, count = ndimage.label(apart, np.ones((3, 3, 3), bool))
    if not count:
        return []
    spacing = space.spacing[::-1]
    flat = [n == 1 for n in space.shape[::-1]]
    padded = np.pad(apart, [(0, 0) if f else (1, 1) for f in flat])
    depth = ndimage.distance_transform_edt(padded, spacing)
    depth = depth[tuple(slice(None) if f else slice(1, -1) for f in flat)]
    numbers = np.arange(1, count + 1)
    sizes = np.bincount(pieces.ravel(), minlength=count + 1)[1:]
    deepest = ndimage.maximum_position(depth, pieces, numbers)
    least = min(s for s, f in zip(spacing, flat) if not f) if not all(flat) else min(spacing)
    found = []
    for at, size in zip(deepest, sizes):
        thickness = max(2 * float(depth[at]) - least, least)
        if thickness > thick:
            place = space.to_world([a + b.start for a, b in zip(at, box)][::-1])
            found.append((*map(float, place), float(size * cell), thickness))
    return found
