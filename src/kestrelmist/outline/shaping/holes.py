"""Fill holes of labels: what they enclose, in the volume or in each slice."""

from __future__ import annotations

from typing import Annotated

import numpy as np

from ...core.grid_plane import Within, axis_across
from ...core.labels import LabelMap
from ...core.left_out import LeftOut
from ...core.operation import operation
from ...core.parameter import Between, LabelName, Unit
from ...core.patch import LabelEdit
from ...core.progress import Progress, silent
from ..runs import find_runs
from .each_label import Part, reshaped
from .grow_shrink import GROUP, WORDS


@operation(
    "outline",
    "Fill holes",
    name="fill-holes",
    keywords="fill enclosed cavities flood binary hole interior",
    called={**WORDS, "below": "Only holes smaller than"},
    rare="over below",
    group=GROUP,
    reach=np.inf,
    methods="Holes of labels were filled",
)
def fill_holes(
    labels: LabelMap,
    label: LabelName | None = None,
    *,
    within: Within = "volume",
    below: Annotated[float | None, Unit("mm³"), Between(0, 1e12), LeftOut("of any size")] = None,
    over: bool = False,
    progress: Progress = silent(),
) -> LabelEdit:
    """Give a label what it encloses.

    A hole is what no way of steps through faces leads out of. One that is open at the edge of the image is none.

    Parameters
    ----------
    label : text
        All that are not locked when left out.
    within : text
        What is enclosed in the whole volume, or in each slice of a plane by itself.
    below : mm³, of a picture mm², without a scale voxels
        Larger holes stay.
    over : bool
        Whether other labels in a hole, if not locked, are filled too; else they stay.

    Raises
    ------
    Trouble
        When the label is locked or empty.
    """
    cell = labels.space.extent[1]
    axis = (
        None
        if within == "volume" and 1 not in labels.space.shape
        else 2 - axis_across(labels.space, within if within != "volume" else "axial")
    )
    most = None if below is None else below / cell

    def work(part: Part, inner: Progress) -> np.ndarray:
        mask = part.mask
        if axis is None:
            return mask | holes_of(mask, inner, most)
        found = mask.copy()
        there = np.moveaxis(found, axis, 0)
        for plane in inner.over(there, what=f"Filling {part.row.name}"):
            plane |= holes_of(plane[None].copy(), inner, most, flat=True)[0]
        return found

    return reshaped(labels, label, 0.0, work, "Fill holes of {}", progress, over)


def holes_of(mask: np.ndarray, progress: Progress, most: float | None = None, flat: bool = False) -> np.ndarray:
    """What a mask encloses.

    Parameters
    ----------
    mask : bool array [k, j, i]
    most : voxels, optional
        Larger holes do not count.
    flat : bool
        Whether it is one slice, whose two sides are closed.
    """
    rim = ((0, 0) if flat else (1, 1), (1, 1), (1, 1))
    padded = np.pad(mask, rim).view(np.uint8)
    runs = find_runs(padded, 0, 0, 6, None, progress.stop)
    assert runs is not None
    roots, sizes = runs.regions()
    outside = int(runs.root[runs.at((0, 0, 0))])
    found = np.zeros(padded.shape, np.uint8)
    wanted = [int(r) for r, s in zip(roots, sizes) if r != outside and (most is None or s < most)]
    if len(wanted) > 64:
        return _many(runs, wanted, padded)[tuple(slice(a, n - b) for (a, b), n in zip(rim, padded.shape))]
    for root in wanted:
        runs.fill(root, found)
    return found[tuple(slice(a, n - b) for (a, b), n in zip(rim, padded.shape))].view(bool)


def _many(runs, wanted: list[int], padded: np.ndarray) -> np.ndarray:
    """Thousands of holes in one pass."""
    chosen = np.zeros(runs.root.size, bool)
    chosen[wanted] = True
    picked = np.flatnonzero(chosen[runs.root])
    found = np.zeros(padded.size + 1, np.int8)
    row = np.searchsorted(runs.rows, picked, "right") - 1
    np.add.at(found, row * padded.shape[2] + runs.first[picked], 1)
    np.add.at(found, row * padded.shape[2] + runs.last[picked] + 1, -1)
    return np.cumsum(found[:-1], dtype=np.int8).reshape(padded.shape).astype(bool)
