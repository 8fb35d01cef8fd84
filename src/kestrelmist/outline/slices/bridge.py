"""Bridge slices: a label that is drawn in some slices is carried on through those between."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated, Literal

import numpy as np

from ...core.errors import Trouble
from ...core.grid_plane import ACROSS, PlaneName, axis_across
from ...core.halves import in_halves
from ...core.image import Image
from ...core.kernel import kernel
from ...core.label_boxes import Box, round_all, wider
from ...core.labels import LabelMap
from ...core.left_out import LeftOut
from ...core.on_grid import require_same_grid
from ...core.operation import operation
from ...core.parameter import LabelName
from ...core.patch import LabelEdit, patch_to
from ...core.progress import Progress, silent
from ..shaping.each_label import Part, parts
from .between import Slab
from .by_image import along_image
from .drawn_slices import Family, families, family
from .oblique import AcrossGrid
from .sheets import Sheets, directions, in_one_sheet, sheets
from .stack import NOWHERE, AlongGrid, Stack
from .unseen import Stretch, as_text, unseen


@operation(
    "outline",
    "Bridge slices",
    keywords="interpolate between slices missing slices shape based contours propagate",
    called={"plane": "Drawn in", "label": "Label (all when left out)", "image": "Follow the edges of"},
    rare="ends",
    version=2,
    group="Shape",
    reach=math.inf,
    coarse=False,
    methods="Labels were carried on between drawn slices by shape-based interpolation",
    cites=("Raya 1990", "Herman 1992", "Grady 2006"),
)
def bridge_slices(
    labels: LabelMap,
    label: LabelName | None = None,
    plane: Annotated[PlaneName | None, LeftOut("every plane that was drawn in")] = None,
    ends: Literal["rounded", "as drawn"] = "rounded",
    *,
    image: Image | None = None,
    progress: Progress = silent(),
) -> LabelEdit:
    """Fill in a label between slices that are drawn.

    Between slices the outline runs as signed distances do (S. P. Raya and J. K. Udupa, IEEE Trans. Med. Imaging 9,
    1990) along curves through up to four of them (G. T. Herman et al., IEEE Computer Graphics and Applications 12,
    1992); parts that divide, join or move aside are followed. Slices drawn in two planes are put together, each
    counting the more the nearer. A gap that is 2.5 times as wide as those beside it stays open where all that was
    drawn on both sides of it closes before the other begins, as between two eyes; this is said then. Drawn
    slices stay as they are, and so do other labels. What was bridged is listed among the checks until somebody has
    looked at it.

    Parameters
    ----------
    label : text
        All that are not locked and drawn in several slices when left out.
    plane : text
        In which slices were drawn.
    ends : text
        "rounded" closes the shape beyond the first and the last slice where the slices show that it closes about
        where another one would have been drawn; "as drawn" ends it there.
    image : image
        Whose edges are followed, within six voxels of the shape: how inside and outside look is learnt from the drawn
        slices. The shape alone counts when it is left out.

    Raises
    ------
    Trouble
        When the label is locked or empty, drawn in one slice only, or has no slice left out between others; when the
        image lies on another grid.
    """
    space = labels.space
    if 1 in space.shape:
        raise Trouble(f"“{labels.name}” is of a picture, and has no slices to bridge", "take the labels of a volume")
    if image is not None:
        require_same_grid(image, labels)
    several = [(part, *_drawn(part, plane)) for part in parts(labels, label, 0.0)]
    ready = [(part, found) for part, found, why in several if not why]
    if not ready:
        raise several[0][2] or Trouble("There is nothing to bridge", "draw slices first")
    work = _Fields(labels, [part for part, _ in ready], image)
    for n, (part, found) in enumerate(ready):
        work.add(part, found, ends == "rounded", progress.part(0.9 * n / len(ready), 0.9 * (n + 1) / len(ready)))
    patch, table = work.patch(), labels.table
    count = 0
    for part, stretches in work.stretches:
        row = table[part.row.number]
        known = [s for s in unseen(row, space) if s not in stretches]
        table = table.changed(row.number, bridged=as_text([*known, *stretches], space))
        count += sum(b - a + 1 for _, a, b in stretches)
    named = f"“{ready[0][0].row.name}”" if len(ready) == 1 else f"{len(ready)} labels"
    left = ", leaving wide gaps between bodies open" if work.apart else ""
    return LabelEdit(f"Bridge {count} slices of {named}{left}", patch, labels.table, table)


@dataclass(frozen=True)
class _Found:
    """Drawn slices of a label: along the grid, or across it."""

    families: list[Family]
    sheets: list[Sheets]


def _drawn(part: Part, plane: str | None) -> tuple[_Found, Trouble | None]:
    """Drawn slices of a label in its box, or why it cannot be bridged."""
    mask, space, name = part.mask, part.labels.space, part.row.name
    if plane is not None:
        one = family(mask, axis_across(space, plane))
        assert one is not None
        found = [one] if one.missing else []
        count = used = len(one.slices)
    else:
        found = families(mask, space)
        count = sum(len(one.slices) for one in found)
        used = min(int(mask.any(tuple(m for m in range(3) if m != n)).sum()) for n in range(3))
    lone = used == 1
    axes = directions(space, None if plane is None else ACROSS[plane])
    if axes and not lone:
        voxels = (np.argwhere(mask) + [one.start for one in part.box])[:, ::-1]
        across = sheets(voxels, space, axes)
        if across and (not found or sum(len(one.at) for one in across) < count):
            return _Found([], across), None
        # in steps across the grid a single slice looks like several of it
        single = in_one_sheet(voxels, space, axes)
        lone = bool(single & ({one.axis for one in found} if found else single))
    if found and not lone:
        return _Found(found, []), None
    which = f"{plane} slice" if plane else "slice"
    if lone:
        return _Found([], []), Trouble(f"“{name}” is drawn in one {which} only", "draw another one, and bridge then")
    return _Found([], []), Trouble(f"No {which} of “{name}” is left out between others", "there is nothing to bridge")


class _Fields:
    """The labels' fields put together: a voxel goes to the label whose field is highest there, if that is above 0."""

    def __init__(self, labels: LabelMap, several: list[Part], image: Image | None):
        self.labels, self.space, self.image = labels, labels.space, image
        self.box = round_all(self._room(several))
        self.was = labels.kji[self.box]
        self.after, self.best = self.was.copy(), np.zeros(self.was.shape, np.float32)
        self.stretches: list[tuple[Part, list[Stretch]]] = []
        self.apart = 0  # wide gaps that were left open

    def _room(self, several: list[Part]) -> list[Box]:
        """Boxes with room for shapes that are larger between slices than in them."""
        found = []
        for part in several:
            more = tuple(max(8, (s.stop - s.start) // 3) for s in part.box)
            found.append(wider(part.box, more, self.labels.kji.shape))
        return found

    def add(self, part: Part, found: _Found, round_ends: bool, progress: Progress) -> None:
        """Work out the field of one label."""
        room = self._room([part])[0]
        mask = self.labels.kji[room] == part.row.number
        k, j, i = (one.start for one in room)
        shift = [b.start - c.start for b, c in zip(part.box, room)]
        along = [
            AlongGrid(mask, Family(one.axis, tuple(n + shift[2 - one.axis] for n in one.slices)), self.space)
            for one in found.families
        ]
        across = [AcrossGrid(mask, (k, j, i), one, self.space) for one in found.sheets]
        stacks: list[AlongGrid | AcrossGrid] = [*along, *across]
        if len(stacks) == len(along) == 1 and self.image is None:
            for first, slab in along[0].slabs(round_ends, progress):
                self._take(along[0].axis, first, slab, room, part.row.number)
        else:
            total = self._together(stacks, room, mask, round_ends, progress)
            self._take(0, 0, Slab((slice(0, mask.shape[1]), slice(0, mask.shape[2])), total), room, part.row.number)
        self.apart += sum(s.apart for s in stacks)
        self.stretches.append((part, sorted({one for s in stacks for one in s.stretches((k, j, i))})))

    def _together(self, stacks: Sequence[Stack], room: Box, mask, round_ends: bool, progress: Progress) -> np.ndarray:
        """The field of slices of several planes, each the heavier the nearer, along the image if there is one."""
        total = weights = None
        for n, one in enumerate(stacks):
            most = 1.0 if self.image is None else 0.5
            field = one.field(round_ends, progress.part(most * n / len(stacks), most * (n + 1) / len(stacks)))
            if len(stacks) == 1:
                total = field
                break
            known = field > NOWHERE
            weight = np.where(known, 1 / np.maximum(one.away, np.float32(0.25 * one.step)), 0)
            total = weight * np.where(known, field, 0) + (0 if total is None else total)
            weights = weight + (0 if weights is None else weights)
        assert total is not None
        if weights is not None:
            total = np.where(weights > 0, total / np.maximum(weights, 1e-12), NOWHERE)
        if self.image is not None:
            values = np.asarray(self.image.kji[room], np.float32)
            spacing, rest = self.space.spacing[::-1], progress.part(0.5, 1.0)
            total = along_image(total, mask, values, stacks, spacing, round_ends, rest)
            for one in stacks:
                one.fill_beyond(total)
        for one in stacks:
            total[np.broadcast_to(one.drawn_in, total.shape)] = NOWHERE
        return total

    def _take(self, axis: int, first: int, slab: Slab, room: Box, number: int) -> None:
        """Give free voxels of a slab to a label where its field is above 0 and that of any before."""
        ends = [slice(first, first + len(slab.values)), *slab.box]
        ends.insert(axis, ends.pop(0))
        here = tuple(
            slice(c.start - b.start + e.start, c.start - b.start + e.stop) for c, b, e in zip(room, self.box, ends)
        )
        given = [np.moveaxis(one[here], axis, 0) for one in (self.best, self.was, self.after)]
        in_halves(len(slab.values), lambda a, b: _take(slab.values, *given, np.uint16(number), a, b), slab.values.size)

    def patch(self):
        """What changes."""
        k, j, i = (s.start for s in self.box)
        return patch_to(self.labels, self.after, (k, j, i))


@kernel
def _take(field, best, was, after, number, first, last):
    """Free voxels where a field is above 0 and higher than that of any label before."""
    for k in range(first, last):
        for j in range(field.shape[1]):
            for i in range(field.shape[2]):
                if field[k, j, i] > 0 and was[k, j, i] == 0 and field[k, j, i] > best[k, j, i]:
                    best[k, j, i] = field[k, j, i]
                    after[k, j, i] = number
