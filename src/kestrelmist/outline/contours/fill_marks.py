"""Fill contours: marks become voxels of a label map."""

from __future__ import annotations

from typing import Annotated

import numpy as np

from ...core.errors import Trouble
from ...core.geometry.brought import brought
from ...core.geometry.filled import Covered, covered
from ...core.geometry.mark import Mark
from ...core.geometry.marks import Marks
from ...core.geometry.numbers_of import numbers_of
from ...core.image import Image
from ...core.labels import Label, LabelMap, LabelTable
from ...core.left_out import Leads
from ...core.mapping import Mapping
from ...core.operation import operation
from ...core.parameter import LabelName, Role
from ...core.patch import LabelEdit, patch_to
from ...core.progress import Progress, silent
from .draw import GROUP
from .require import require_sound

POINTS = ("point", "text", "arrow", "angle")
"""Shapes that outline nothing."""


@operation(
    "outline",
    "Fill contours",
    name="fill-marks",
    keywords="rasterise rasterize contours to labels polygon to mask burn convert regions of interest",
    called={"which": "Contours", "onto": "Onto", "over": "Over other labels", "transform": "Through"},
    rare="over which transform",
    group=GROUP,
    methods="Contours were filled",
)
def fill_marks(
    marks: Marks,
    onto: Annotated[Image, Role("grid")],
    labels: LabelMap,
    label: LabelName | None = None,
    *,
    which: str = "all",
    over: bool = False,
    transform: Annotated[list[Mapping] | None, Leads("marks", "onto")] = None,
    progress: Progress = silent(),
) -> LabelEdit:
    """Give the voxels that contours enclose to their labels.

    A voxel belongs to a contour when its middle lies inside, in the slice that the contour was drawn in. Contours with
    the note “hole” are left out of those of their label. Open lines fill what they run through, or their width.

    Parameters
    ----------
    onto : image
        Whose voxels are filled.
    label : text
        The label that all get; that of each contour's own name when left out, made when there is none.
    which : text
        Numbers of marks, as in 3, 5-9; or "all" that enclose something.
    over : bool
        Whether voxels of other labels, if not locked, are taken too; else free ones alone.
    transform : transforms
        From the world of the marks to that of the image; the way that the study knows when left out.

    Raises
    ------
    Trouble
        When there is no contour, one crosses itself, covers no voxel or has no name, a label is locked, or the marks
        lie in another world.
    """
    on = brought(marks, onto, transform)
    chosen = [on[n] for n in numbers_of(which, on)]
    if which.strip().casefold() == "all":
        chosen = [mark for mark in chosen if mark.shape not in POINTS]
    if not chosen:
        raise Trouble(f"“{marks.name}” has no contour to fill", "draw one: a polygon, an ellipse, a rectangle, a line")
    table = labels.table
    rows: list[tuple[Mark, Label]] = []
    for mark in chosen:
        table, row = _row(labels, table, mark, label)
        rows.append((mark, row))
    found: list[tuple[Label, Covered, bool]] = []
    for mark, row in progress.over(rows, what="Filling contours"):
        require_sound(mark)
        cover = covered(mark, labels.space)
        if cover is None:
            raise Trouble(
                f"The {mark.called} encloses no middle of a voxel of “{onto.name}”",
                "draw it larger, leave it out, or take it off: it is smaller than a voxel, or lies outside",
            )
        found.append((row, cover, bool(mark.notes.get("hole"))))
    patch = _filled(labels, found, over)
    names = list(dict.fromkeys(row.name for row, _, _ in found))
    told = f"“{names[0]}”" if len(names) == 1 else f"{len(names)} labels"
    count = "a contour" if len(found) == 1 else f"{len(found)} contours"
    none = "" if patch.voxels else ": nothing changed, as other labels lie there"
    return LabelEdit(f"Fill {count} of {told}{none}", patch, labels.table, table)


def _row(labels: LabelMap, table: LabelTable, mark: Mark, label: str | None) -> tuple[LabelTable, Label]:
    name = (label or mark.name).strip()
    if not name:
        raise Trouble(f"The {mark.called} has no name, so nobody knows its label", "name it, or say the label")
    if table.has_name(name):
        row = table.named(name)
        labels.require_unlocked(row)
        return table, row
    return table.with_new(name, mark.colour or None)


def _filled(labels: LabelMap, found: list[tuple[Label, Covered, bool]], over: bool):
    """The patch: contours of one label together, holes taken out of them."""
    low = np.min([c.corner for _, c, _ in found], axis=0)
    high = np.max([np.add(c.corner, c.mask.shape) for _, c, _ in found], axis=0)
    part = tuple(slice(int(a), int(b)) for a, b in zip(low, high))
    was = labels.kji[part]
    after = was.copy()
    free = labels.writable()[was] != 0 if over else was == 0
    for row in dict.fromkeys(row for row, _, _ in found):
        mine = np.zeros(was.shape, bool)
        for hole in (False, True):
            for _, cover, is_hole in (one for one in found if one[0] == row and one[2] == hole):
                here = tuple(slice(c - int(a), c - int(a) + n) for c, a, n in zip(cover.corner, low, cover.mask.shape))
                mine[here] = mine[here] & ~cover.mask.view(bool) if is_hole else mine[here] | cover.mask.view(bool)
        after[mine & free] = row.number
    k, j, i = (int(v) for v in low)
    return patch_to(labels, after, (k, j, i))
