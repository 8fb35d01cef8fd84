"""Compare two label maps: how far two people, or two versions, agree."""

from __future__ import annotations

from typing import Any

import numpy as np

from ..core.digits import decimals_of
from ..core.errors import Trouble
from ..core.label_boxes import boxes_of
from ..core.label_grid import on_grid
from ..core.labels import Label, LabelMap
from ..core.operation import operation
from ..core.progress import Progress, silent
from ..core.space import Space
from ..core.table import Column, Table

POINTS = 20_000
"""Of a surface, that are asked for between two looks at the cancel button."""


@operation(
    "outline",
    "Compare two label maps",
    name="compare-labels",
    keywords="overlap dice jaccard hausdorff surface distance agreement version dice coefficient iou inter-rater",
    called={"other": "Compare with"},
    group="Label maps",
    methods="Label maps were compared by overlap (Dice, Jaccard) and distances of their surfaces",
    cites=(
        "Dice 1945",
        "Jaccard 1912",
        "Taha 2015",
    ),
)
def compare_labels(labels: LabelMap, other: LabelMap, progress: Progress = silent()) -> Table:
    """Overlap and distance of labels that have the same name in two label maps.

    Dice (Ecology 26, 1945) and Jaccard (New Phytologist 11, 1912) coefficients; distances between the surfaces from
    each boundary voxel of one to the nearest of the other, both ways together (A. A. Taha and A. Hanbury, BMC Medical
    Imaging 15, 2015). A label map on another grid is brought onto the first one's by world position.

    Parameters
    ----------
    other : label map
        The one to compare with.

    Returns
    -------
    Table
        One row a label: size in both and its difference (first minus other), Dice, Jaccard, mean and 95th percentile
        of the surface distance in the world's unit; distances are empty where a label lies in one map only.

    Raises
    ------
    Trouble
        When the maps have no label in common, or lie in worlds of different units.
    """
    there, pairs = in_common(labels, other)
    what, cell, unit = labels.space.extent
    digits = decimals_of(cell)
    table = Table(
        f"{labels.name} and {other.name}",
        [
            Column("label"),
            Column(what, unit, digits),
            Column(f"{what}_other", unit, digits, shown_as=f"{what}, other"),
            Column(f"{what}_difference", unit, digits, shown_as="difference"),
            Column("dice", "", 4),
            Column("jaccard", "", 4),
            Column("surface_distance_mean", labels.space.unit, 4, shown_as="distance, mean"),
            Column("surface_distance_95", labels.space.unit, 4, shown_as="distance, 95 %"),
        ],
    )
    places = [boxes_of(one.kji) for one in (labels, there)]
    for n, (row, fellow) in enumerate(pairs):
        own = progress.part(n / len(pairs), (n + 1) / len(pairs))
        own.at(0.0, f"Comparing {row.name}")
        part = _both(places[0].get(row.number), places[1].get(fellow.number), labels.kji.shape)
        a, b = labels.kji[part] == row.number, there.kji[part] == fellow.number
        table.rows.append((row.name, *_sizes(a, b, cell), *_distances(a, b, labels.space, own)))
    return table


def in_common(
    labels: LabelMap, other: LabelMap, label: str | None = None
) -> tuple[LabelMap, list[tuple[Label, Label]]]:
    """The other map on the grid of the first one, and the labels that have one name in both; one alone, where it is
    named.

    Raises
    ------
    Trouble
        When the maps have no such label in common, or lie in worlds of different units.
    """
    if labels.space.unit != other.space.unit:
        raise Trouble(f"“{labels.name}” and “{other.name}” have no scale in common", "set the voxel size of both")
    there = other if other.space.same_grid(labels.space) else on_grid(other, labels.space)
    names = {row.name.casefold(): row for row in there.table}
    rows = [labels.table.named(label)] if label else list(labels.table)
    pairs = [(row, names[row.name.casefold()]) for row in rows if row.name.casefold() in names]
    if not pairs:
        raise Trouble(
            f"“{labels.name}” and “{other.name}” have no label {f'“{label}”' if label else 'of the same name'}",
            "rename labels so that they agree",
        )
    return there, pairs


def _both(one: tuple[slice, ...] | None, other: tuple[slice, ...] | None, size: tuple[int, ...]) -> tuple[slice, ...]:
    """The part of a grid that holds both boxes, one voxel wider where the grid allows it."""
    boxes = [box for box in (one, other) if box is not None]
    if not boxes:
        return (slice(0, 1),) * 3
    return tuple(
        slice(max(0, min(s.start for s in several) - 1), min(n, max(s.stop for s in several) + 1))
        for several, n in zip(zip(*boxes), size)
    )


def _sizes(a: np.ndarray, b: np.ndarray, cell: float) -> tuple[Any, ...]:
    one, two, both = int(a.sum()), int(b.sum()), int((a & b).sum())
    either = one + two - both
    dice, jaccard = (2 * both / (one + two), both / either) if either else (None, None)
    return one * cell, two * cell, (one - two) * cell, dice, jaccard


def _distances(a: np.ndarray, b: np.ndarray, space: Space, progress: Progress) -> tuple[float | None, float | None]:
    if not a.any() or not b.any():
        return None, None
    from scipy.spatial import cKDTree

    one, two = boundary(a), boundary(b)
    both = one & two
    found = [np.zeros(2 * np.count_nonzero(both))]  # what both have is no way off
    for n, (of, to) in enumerate(((one, two), (two, one))):
        asked = space.to_world(np.argwhere(of & ~both)[:, ::-1])
        if not len(asked):
            continue
        tree = cKDTree(space.to_world(np.argwhere(to)[:, ::-1]))
        for start in range(0, len(asked), POINTS):
            progress.at((n + start / len(asked)) / 2, "Measuring distances")
            found.append(tree.query(asked[start : start + POINTS], workers=-1)[0])
    distances = np.concatenate(found)
    return float(distances.mean()), float(np.percentile(distances, 95))


def boundary(mask: np.ndarray) -> np.ndarray:
    """Voxels of a mask [k, j, i] that share a face with what is outside it; the edge of the grid counts as outside.
    Along axes of one voxel there is no outside."""
    inner = mask.copy()
    for axis in range(mask.ndim):
        if mask.shape[axis] == 1:
            continue
        for step in (1, -1):
            shifted = np.zeros_like(mask)
            here: list[slice] = [slice(None)] * mask.ndim
            there: list[slice] = [slice(None)] * mask.ndim
            here[axis], there[axis] = (
                (slice(1, None), slice(None, -1)) if step > 0 else (slice(None, -1), slice(1, None))
            )
            shifted[tuple(here)] = mask[tuple(there)]
            inner &= shifted
    return mask & ~inner
