"""Bridge slices: a label that is drawn in some slices is carried on through those between."""

from __future__ import annotations

import math
from typing import Annotated, Literal

import numpy as np

from ...core.errors import Trouble
from ...core.grid_plane import PlaneName, axis_across
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
from ...core.space import Space
from ..shaping.each_label import Part, parts
from .between import Drawn, rounded, slabs
from .by_image import along_image
from .drawn_slices import Family, families, family
from .unseen import Stretch, as_text, unseen

NOWHERE = np.float32(-1e9)


@operation(
    "outline",
    "Bridge slices",
    keywords="interpolate between slices missing slices shape based contours propagate",
    called={"plane": "Drawn in", "label": "Label (all when left out)", "image": "Follow the edges of"},
    rare="ends",
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
    counting the more the nearer. Drawn slices stay as they are, and so do other labels. What was bridged is listed
    among the checks until somebody has looked at it.

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
    several = [(part, *_families(part, plane)) for part in parts(labels, label, 0.0)]
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
    return LabelEdit(f"Bridge {count} slices of {named}", patch, labels.table, table)


def _families(part: Part, plane: str | None) -> tuple[list[Family], Trouble | None]:
    """Drawn slices of a label in its box, or why it cannot be bridged."""
    mask, space, name = part.mask, part.labels.space, part.row.name
    if plane is not None:
        one = family(mask, axis_across(space, plane))
        assert one is not None
        if len(one.slices) < 2:
            return [], Trouble(f"“{name}” is drawn in one {plane} slice only", "draw another one, and bridge then")
        if not one.missing:
            return [], Trouble(f"No {plane} slice of “{name}” is left out between others", "there is nothing to bridge")
        return [one], None
    found = families(mask, space)
    if found:
        return found, None
    used = [np.count_nonzero(mask.any(tuple(m for m in range(3) if m != n))) for n in range(3)]
    if min(used) == 1:
        return [], Trouble(f"“{name}” is drawn in one slice only", "draw another one, and bridge then")
    return [], Trouble(f"No slice of “{name}” is left out between others", "there is nothing to bridge")


class _Fields:
    """The labels' fields put together: a voxel goes to the label whose field is highest there, if that is above 0."""

    def __init__(self, labels: LabelMap, several: list[Part], image: Image | None):
        self.labels, self.space, self.image = labels, labels.space, image
        self.box = round_all(self._room(several))
        self.was = labels.kji[self.box]
        self.after, self.best = self.was.copy(), np.zeros(self.was.shape, np.float32)
        self.stretches: list[tuple[Part, list[Stretch]]] = []

    def _room(self, several: list[Part]) -> list[Box]:
        """Boxes with room for shapes that are larger between slices than in them."""
        found = []
        for part in several:
            more = tuple(max(8, (s.stop - s.start) // 3) for s in part.box)
            found.append(wider(part.box, more, self.labels.kji.shape))
        return found

    def add(self, part: Part, found: list[Family], round_ends: bool, progress: Progress) -> None:
        """Work out the field of one label."""
        room = self._room([part])[0]
        mask = self.labels.kji[room] == part.row.number
        shift = [part.box[n].start - room[n].start for n in range(3)]
        total = weights = None
        drawn: list[tuple[int, list[int]]] = []
        stretches: list[Stretch] = []
        for n, one in enumerate(found):
            most = 1.0 if self.image is None else 0.5
            inner = progress.part(most * n / len(found), most * (n + 1) / len(found))
            axis = 2 - one.axis
            slices = tuple(s + shift[axis] for s in one.slices)
            drawn.append((axis, list(slices)))
            field, filled = _field(mask, Family(one.axis, slices), self.space, round_ends, inner)
            first = room[axis].start
            stretches += [(one.axis, a + first, b + first) for a, b in filled]
            if len(found) == 1:
                total = field
                break
            weight = _nearness(mask.shape, Family(one.axis, slices), self.space)
            known = field > NOWHERE
            weight = np.where(known, weight, 0)
            total = weight * np.where(known, field, 0) + (0 if total is None else total)
            weights = weight + (0 if weights is None else weights)
        assert total is not None
        if weights is not None:
            total = np.where(weights > 0, total / np.maximum(weights, 1e-12), NOWHERE)
        if self.image is not None:
            values = np.asarray(self.image.kji[room], np.float32)
            spacing, rest = self.space.spacing[::-1], progress.part(0.5, 1.0)
            total = along_image(total, mask, values, drawn, spacing, round_ends, rest)
            stretches = sorted({*stretches, *_beyond_ends(total, drawn, [s.start for s in room])})
        for axis, slices_ in drawn:
            np.moveaxis(total, axis, 0)[slices_] = NOWHERE
        here = tuple(slice(one.start - b.start, one.stop - b.start) for one, b in zip(room, self.box))
        given = total, self.best[here], self.was[here], self.after[here], np.uint16(part.row.number)
        in_halves(total.shape[0], lambda a, b: _take(*given, a, b), total.size)
        self.stretches.append((part, stretches))

    def patch(self):
        """What changes."""
        k, j, i = (s.start for s in self.box)
        return patch_to(self.labels, self.after, (k, j, i))


@kernel
def _take(field, best, was, after, number, first, last):
    """Free voxels where a field is higher than that of any label before."""
    for k in range(first, last):
        for j in range(field.shape[1]):
            for i in range(field.shape[2]):
                if field[k, j, i] > best[k, j, i] and was[k, j, i] == 0:
                    best[k, j, i] = field[k, j, i]
                    after[k, j, i] = number


def _field(
    mask: np.ndarray, one: Family, space: Space, round_ends: bool, progress: Progress
) -> tuple[np.ndarray, list[tuple[int, int]]]:
    """The field of a label between its slices across one axis, and the stretches of slices that it fills."""
    axis = 2 - one.axis
    step = space.spacing[one.axis]
    wide, high = (space.spacing[n] for n in range(3) if n != one.axis)
    across = np.moveaxis(mask, axis, 0)
    field = np.full(mask.shape, NOWHERE)
    there = np.moveaxis(field, axis, 0)
    drawn = [Drawn(n * step, np.ascontiguousarray(across[n])) for n in one.slices]
    filled = []
    for n, found in slabs(drawn, (high, wide), step):
        progress.at(n / len(drawn), "Bridging slices")
        first, last = one.slices[n] + 1, one.slices[n + 1] - 1
        for slab in found:
            part = there[first : last + 1, slab.box[0], slab.box[1]]
            np.maximum(part, slab.values, out=part)
        filled.append((first, last))
    if round_ends:
        for upwards in (False, True):
            for slab in rounded(drawn, upwards, (high, wide), step):
                count = len(slab.values)
                first = one.slices[-1] + 1 if upwards else one.slices[0] - count
                cut = max(0, -first), min(count, len(there) - first)
                if cut[1] <= cut[0]:
                    continue
                part = there[first + cut[0] : first + cut[1], slab.box[0], slab.box[1]]
                np.maximum(part, slab.values[cut[0] : cut[1]], out=part)
                grown = [int(k) for k in range(*cut) if (slab.values[k] > 0).any()]
                if grown:
                    filled.append((first + grown[0], first + grown[-1]))
    return field, sorted(set(filled))


def _beyond_ends(field: np.ndarray, drawn, corner: list[int]) -> list[Stretch]:
    """Stretches of slices before the first drawn one and after the last that a field fills."""
    found: list[Stretch] = []
    for axis, slices in drawn:
        used = np.flatnonzero((np.moveaxis(field, axis, 0) > 0).any((1, 2))) + corner[axis]
        for part in (used[used < slices[0] + corner[axis]], used[used > slices[-1] + corner[axis]]):
            if part.size:
                found.append((2 - axis, int(part[0]), int(part[-1])))
    return found


def _nearness(shape: tuple[int, ...], one: Family, space: Space) -> np.ndarray:
    """One over the distance to the nearest drawn slice, for every slice across an axis."""
    axis = 2 - one.axis
    places = np.arange(shape[axis])
    away = np.abs(places[:, None] - np.array(one.slices)[None]).min(1) * space.spacing[one.axis]
    found = np.float32(1.0) / np.maximum(away, 0.25 * space.spacing[one.axis]).astype(np.float32)
    return found.reshape([-1 if n == axis else 1 for n in range(3)])
