"""Separate what touches: a label becomes several, by its necks, by seeds, or by a plane."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Literal

import numpy as np

from ...core.depth import depth_inside
from ...core.errors import Trouble
from ...core.geometry.typed_points import points_of
from ...core.labels import LabelMap, LabelTable
from ...core.operation import operation
from ...core.parameter import Between, LabelName, Only, Role, Unit
from ...core.patch import LabelEdit, patch_to
from ...core.progress import Progress, silent
from .each_label import Part, parts
from .grow_shrink import GROUP
from .necks import parts_by_necks

MOST = 1000
"""Parts that a label becomes at once."""


@operation(
    "outline",
    "Separate",
    name="separate",
    keywords="split touching bones watershed disconnect divide cut seeds split label island touching cells",
    called={"how": "By", "neck": "Necks thinner than", "least": "Parts larger than"},
    rare="neck least",
    group=GROUP,
    reach=np.inf,
    coarse=False,
    methods="Touching parts of labels were separated ({how})",
    cites=("Beucher 1979",),
)
def separate(
    labels: LabelMap,
    label: LabelName,
    how: Literal["necks", "seeds", "plane"] = "necks",
    *,
    points: Annotated[str, Unit("mm"), Role("places"), Only("how", "seeds", "plane")] = "",
    neck: Annotated[float, Between(0.01, 1.0), Only("how", "necks")] = 0.7,
    least: Annotated[float, Between(0.0, 0.5), Only("how", "necks")] = 0.01,
    progress: Progress = silent(),
) -> LabelEdit:
    """Divide a label where parts of it touch; the largest keeps its name, others get that with a number.

    A watershed of the distance inside (S. Beucher and C. Lantuéjoul, Int. Workshop on Image Processing, Rennes, 1979):
    parts meet where they are thinnest between them.

    Parameters
    ----------
    label : text
    how : text
        "necks" finds the parts by itself; "seeds" takes one part a point, and points of one part with = between, as in
        1, 2, 3 = 4, 5, 6; 7, 8, 9; "plane" cuts along the plane through three points.
    points : mm
        World positions of seeds, which lie in the label, or of the three points of the plane.
    neck : share
        Parts stay apart where the neck between them is at most this share as thick as the thinner of them.
    least : share
        Parts with a smaller share of the label's voxels join a neighbour.

    Raises
    ------
    Trouble
        When the label is locked or empty, is in one part only, or a seed lies outside it.
    """
    part = parts(labels, label, 0.0)[0]
    mask = part.mask
    progress.at(0.1, f"Looking at {part.row.name}")
    if how == "plane":
        numbers, count = _by_plane(part, mask, points)
    else:
        seeds = _Seeds.read(part, mask, points) if how == "seeds" else None
        depth = _depth(part, mask)
        progress.at(0.4, "Separating parts")
        share = max(1.0, least * np.count_nonzero(mask))
        numbers, count = parts_by_necks(
            mask,
            depth,
            part.labels.space.spacing[::-1],
            neck,
            share,
            None if seeds is None else seeds.marked,
            progress.stop,
        )
        if seeds is not None:
            numbers = seeds.renumbered(numbers)
        loose = mask & (numbers == 0)  # pieces that no seed lies in
        count = max(count, int(numbers.max(initial=0)))
        numbers[loose] = 1
    if count < 2:
        raise Trouble(f"“{part.row.name}” is in one part here", "allow thicker necks, or give seeds or a plane")
    if count > MOST:
        raise Trouble(f"“{part.row.name}” would become {count} parts", "let larger ones alone count")
    return _edit(labels, part, numbers, count)


def _edit(labels: LabelMap, part: Part, numbers: np.ndarray, count: int) -> LabelEdit:
    table: LabelTable = labels.table
    given = np.zeros(count + 1, np.uint16)
    given[1] = part.row.number
    name = 2
    for n in range(2, count + 1):
        while table.has_name(f"{part.row.name} {name}"):
            name += 1
        table, row = table.with_new(f"{part.row.name} {name}")
        given[n] = row.number
    after = labels.kji[part.box].copy()
    after[numbers > 0] = given[numbers[numbers > 0]]
    k, j, i = (s.start for s in part.box)
    patch = patch_to(labels, after, (k, j, i))
    return LabelEdit(f"Separate “{part.row.name}” into {count}", patch, labels.table, table)


def _depth(part: Part, mask: np.ndarray) -> np.ndarray:
    """How far inside each voxel lies; beyond the image the label goes on."""
    spacing = part.labels.space.spacing[::-1]
    rims = [(1, 1) if n > 1 else (0, 0) for n in mask.shape]
    inner = tuple(slice(a, n + a) for (a, _), n in zip(rims, mask.shape))
    if max(spacing) < 1.05 * min(spacing):
        return depth_inside(np.pad(mask, rims, mode="edge"), float(np.mean(spacing)))[inner]
    from scipy import ndimage

    return ndimage.distance_transform_edt(np.pad(mask, rims, mode="edge"), sampling=spacing)[inner].astype(np.float32)


@dataclass
class _Seeds:
    """Where parts begin, and which of their numbers are of one part."""

    marked: np.ndarray
    places: list[list[tuple[int, int, int]]]

    @classmethod
    def read(cls, part: Part, mask: np.ndarray, points: str) -> _Seeds:
        space, marked = part.labels.space, np.zeros(mask.shape, np.int32)
        groups = []
        for n, text in enumerate(filter(str.strip, points.split(";")), 1):
            group = []
            for place in points_of(text.replace("=", ";"), space.unit):
                voxel = space.nearest_voxel(place)
                at = None if voxel is None else tuple(v - s.start for v, s in zip(voxel[::-1], part.box))
                inside = at is not None and all(0 <= a < size for a, size in zip(at, mask.shape)) and mask[at]
                if not inside:
                    told = ", ".join(f"{v:g}" for v in place)
                    raise Trouble(f"The seed ({told}) does not lie in “{part.row.name}”", "choose a place inside it")
                assert at is not None
                if marked[at] not in (0, n):
                    raise Trouble("Two seeds of different parts lie in one voxel", "move one of them")
                marked[at] = n
                group.append(at)
            groups.append(group)
        if len(groups) < 2:
            raise Trouble("Seeds of two parts are needed at least", "give a point for each, with ; between")
        return cls(marked, groups)

    def renumbered(self, numbers: np.ndarray) -> np.ndarray:
        """Numbers in the order of the seeds."""
        found = np.zeros(int(numbers.max(initial=0)) + 1, np.int32)
        for n, group in enumerate(self.places, 1):
            found[numbers[group[0]]] = n
        return found[numbers]


def _by_plane(part: Part, mask: np.ndarray, points: str) -> tuple[np.ndarray, int]:
    where = points_of(points, part.labels.space.unit) if points.strip() else np.zeros((0, 3))
    if len(where) != 3:
        raise Trouble("A plane goes through three points", "give three, with ; between them")
    normal = np.cross(where[1] - where[0], where[2] - where[0])
    if not np.linalg.norm(normal) > 1e-12 * max(1e-30, float(np.ptp(where, 0).max()) ** 2):
        raise Trouble("The three points of the plane lie on one line", "move one of them aside")
    at = np.argwhere(mask)
    voxels = at[:, ::-1] + [s.start for s in reversed(part.box)]
    above = (part.labels.space.to_world(voxels) - where[0]) @ normal > 0
    numbers = np.zeros(mask.shape, np.int32)
    more = above if np.count_nonzero(above) * 2 >= len(above) else ~above
    numbers[tuple(at.T)] = np.where(more, 1, 2)
    return numbers, 1 if more.all() else 2
