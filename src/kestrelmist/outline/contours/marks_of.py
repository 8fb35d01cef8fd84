"""Labels become contours: closed lines round them, slice by slice."""

from __future__ import annotations

from typing import Annotated, Any

import numpy as np

from ...core.errors import Trouble
from ...core.geometry.mark import Mark
from ...core.geometry.marks import Marks
from ...core.geometry.thinned import thinned
from ...core.grid_plane import PlaneName, axis_across
from ...core.label_boxes import boxes_of
from ...core.labels import Label, LabelMap
from ...core.left_out import LeftOut
from ...core.operation import operation
from ...core.parameter import Between, LabelName, Unit
from ...core.progress import Progress, silent
from .draw import GROUP

MOST = 50_000
"""Contours that are made at once."""


@operation(
    "outline",
    "Contours of labels",
    name="marks-of",
    keywords="mask polygon vectorise vectorize boundary trace labels to contours convert regions of interest",
    called={"plane": "In slices", "label": "Label (all when left out)", "simplify": "Leave out points within"},
    rare="simplify",
    group=GROUP,
    methods="Contours were taken round labels",
)
def marks_of(
    labels: LabelMap,
    label: LabelName | None = None,
    plane: Annotated[PlaneName | None, LeftOut("those of the grid’s thickest step")] = None,
    *,
    simplify: Annotated[float, Unit("mm"), Between(0, 1e6)] = 0.0,
    progress: Progress = silent(),
) -> Marks:
    """Draw a closed line round each part of a label in every slice, as marks with its name, number and colour.

    The lines run half-way between voxels inside and outside, so that “Fill contours” gives the very same voxels back;
    holes are lines with the note “hole”.

    Parameters
    ----------
    label : text
        All that are drawn when left out.
    plane : text
        In which slices.
    simplify : mm
        How far a line may leave its points, to have fewer of them; 0 keeps it exact.

    Raises
    ------
    Trouble
        When there is no such label, or it is empty.
    """
    rows = [labels.table.named(label)] if label else list(labels.table)
    rows = [row for row in rows if labels.counts[row.number]]
    if not rows:
        raise Trouble(f"“{label or labels.name}” has no voxel", "draw it first")
    space = labels.space
    axis = axis_across(space, plane) if plane is not None else int(np.argmax(space.spacing))
    if plane is None:
        axis = (
            axis_across(space, "axial") if max(space.spacing) < 1.01 * min(space.spacing) or 1 in space.shape else axis
        )
    normal = tuple(space.across(axis).tolist())
    boxes = boxes_of(labels.kji)
    found: list[Mark] = []
    for row in progress.over(rows, what="Drawing contours"):
        found += _round(labels, row, boxes[row.number], axis, normal, simplify)
        if len(found) > MOST:
            raise Trouble(f"“{labels.name}” has more than {MOST:,} contours", "name one label, or smooth it first")
    name = f"Contours of {rows[0].name}" if len(rows) == 1 else f"Contours of {labels.name}"
    return Marks.numbered(found, world=space.world, unit=space.unit, name=name, subject=labels.subject)


def _round(labels: LabelMap, row: Label, box, axis: int, normal, simplify: float) -> list[Mark]:
    part = np.moveaxis(labels.kji[box] == row.number, 2 - axis, 0)
    first = box[2 - axis].start
    slow, fast = (n for n in (2, 1, 0) if n != axis)
    corner = np.array([box[2 - slow].start, box[2 - fast].start])
    found = []
    for n in np.flatnonzero(part.any((1, 2))):
        for ring, hole in rings_of(part[n]):
            at = np.zeros((len(ring), 3))
            at[:, axis], at[:, slow], at[:, fast] = first + n, ring[:, 0] + corner[0], ring[:, 1] + corner[1]
            points = labels.space.to_world(at)
            if simplify > 0:
                points = _thinned(points, simplify)
            corners, notes = tuple(map(tuple, points.tolist())), {"hole": True} if hole else {}
            facts: dict[str, Any] = {"name": row.name, "colour": row.colour, "notes": notes}
            found.append(Mark("polygon", corners, 0, normal, cls=row.number, **facts))
    return found


def _thinned(points: np.ndarray, tolerance: float) -> np.ndarray:
    fewer = thinned(np.vstack((points, points[:1])), tolerance)[:-1]
    return fewer if len(fewer) > 2 else points


def rings_of(mask: np.ndarray) -> list[tuple[np.ndarray, bool]]:
    """Closed lines round a mask in rows and columns, half-way between pixels, and whether each is round a hole."""
    from skimage.measure import find_contours

    padded = np.pad(mask, 1).astype(np.float32)
    found = []
    for line in find_contours(padded, 0.5):
        ring = line[:-1] - 1
        after, before = np.roll(ring, -1, 0) - ring, ring - np.roll(ring, 1, 0)
        bends = np.abs(after[:, 0] * before[:, 1] - after[:, 1] * before[:, 0]) > 1e-9
        y, x = ring.T
        area = float((x * np.roll(y, -1) - np.roll(x, -1) * y).sum())
        found.append((ring[bends], area < 0))
    return found
