"""List where a label leaves its vessel, and vessels beside it that nobody has labelled."""

from __future__ import annotations

from typing import Annotated

import numpy as np

from ...core.errors import Trouble
from ...core.image import Image
from ...core.label_boxes import boxes_of, wider
from ...core.labels import LabelMap
from ...core.left_out import LeftOut
from ...core.on_grid import require_same_grid
from ...core.operation import operation
from ...core.parameter import Between, LabelName, Unit
from ...core.progress import Progress, silent
from ...core.table import Column, Table
from .follow_vessel import GROUP, _radii
from .tubes import tube_likeness


@operation(
    "outline",
    "List vessel gaps",
    name="vessel-gaps",
    keywords="missed branch unlabelled vessel stretches leaves centreline check",
    called={"least": "Stretches longer than"},
    rare="least",
    group=GROUP,
)
def vessel_gaps(
    image: Image,
    labels: LabelMap,
    label: LabelName,
    *,
    least: Annotated[float | None, Unit("mm"), Between(1e-9, 1e4), LeftOut("five voxels")] = None,
    progress: Progress = silent(),
) -> Table:
    """List places where a label lies on no vessel, and vessel stretches that join it and carry no label.

    What is as bright (or as dark) as the labelled vessel, and hangs together with it, is vessel.

    Parameters
    ----------
    label : text
    least : mm
        Stretches that are longer than this are listed.

    Returns
    -------
    Table
        What ("leaves the vessel" or "not labelled"), where, how long it is and its volume; the largest first.

    Raises
    ------
    Trouble
        When the label is empty, or the image has no value within it.
    """
    from scipy import ndimage

    require_same_grid(image, labels)
    row = labels.table.named(label)
    if not labels.counts[row.number]:
        raise Trouble(f"“{row.name}” has no voxel", "follow a vessel first")
    space = image.space
    fine = float(min((s for s, n in zip(space.spacing, space.shape) if n > 1), default=min(space.spacing)))
    shortest = least if least is not None else 5 * fine
    box = wider(boxes_of(labels.kji)[row.number], (30, 30, 30), labels.kji.shape)
    values, under = np.array(image.kji[box], np.float32), labels.kji[box]
    values[~np.isfinite(values)] = np.nan
    mine = under == row.number
    rim = ndimage.binary_dilation(mine, iterations=4) & ~ndimage.binary_dilation(mine, iterations=2) & (under == 0)
    inside, beside = _usual(values[mine]), _usual(values[rim])
    if inside is None:
        raise Trouble(f"“{image.name}” has no value within “{row.name}”", "choose the image it was outlined on")
    beside = 0.0 if beside is None else beside
    sign, level = (1.0 if inside >= beside else -1.0), (inside + beside) / 2
    progress.at(0.3, "Looking for vessels")
    known = np.nan_to_num(values)
    vessel = sign * ndimage.gaussian_filter(known, [0.6 if n > 1 else 0 for n in values.shape]) > sign * level
    tubes = tube_likeness(known, sign, _radii(fine, 6 * fine), space.spacing[::-1])
    usual = float(np.median(tubes[mine & vessel])) if (mine & vessel).any() else 1.0
    corners = np.ones((3, 3, 3), bool)
    joined = ndimage.label((vessel & (tubes > 0.25 * usual)) | mine, corners)[0]
    with_it = np.isin(joined, np.unique(joined[mine]))
    missing = with_it & ~ndimage.binary_dilation(mine, corners) & (under == 0)
    what, cell, unit = space.extent
    columns = [Column("what"), *(Column(axis, space.unit, 3) for axis in "xyz"), Column("length", space.unit, 3)]
    table = Table(f"Gaps of {row.name}", [*columns, Column(what, unit, 4)])
    off = mine & ~ndimage.binary_dilation(vessel, corners)
    for words, mask in (("leaves the vessel", off), ("not labelled", missing)):
        for place, length, count in _stretches(mask, box, space):
            if length >= shortest:
                table.rows.append((words, *map(float, place), length, count * cell))
    table.rows.sort(key=lambda r: -r[4])
    return table


def _usual(values: np.ndarray) -> float | None:
    """Median of what is known; None where nothing is."""
    known = values[~np.isnan(values)]
    return float(np.median(known)) if known.size else None


def _stretches(mask: np.ndarray, box, space) -> list[tuple[np.ndarray, float, int]]:
    """Middle, length and voxels of every piece of a mask."""
    from scipy import ndimage

    pieces = ndimage.label(mask, np.ones((3, 3, 3), bool))[0]
    found = []
    for n, part in enumerate(ndimage.find_objects(pieces), 1):
        at = np.argwhere(pieces[part] == n) + [p.start + b.start for p, b in zip(part, box)]
        world = space.to_world(at[:, ::-1])
        middle = world[np.linalg.norm(world - world.mean(0), axis=1).argmin()]
        found.append((middle, float(np.linalg.norm(np.ptp(world, axis=0))), len(at)))
    return found
