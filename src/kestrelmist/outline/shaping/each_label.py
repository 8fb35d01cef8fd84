"""One label or all of a map, each with the part of the grid it lies in; and the edit that gives them other voxels."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ...core.errors import Trouble
from ...core.label_boxes import Box, boxes_of, round_all, seen_from, wider
from ...core.labels import Label, LabelMap
from ...core.patch import LabelEdit, patch_to
from ...core.progress import Progress


@dataclass(frozen=True)
class Part:
    """A label and the part of the grid that is worked on for it."""

    row: Label
    box: Box
    labels: LabelMap

    @property
    def mask(self) -> np.ndarray:
        """Where the label lies in that part, bool [k, j, i]."""
        return self.labels.kji[self.box] == self.row.number


def parts(labels: LabelMap, label: str | None, margin: float) -> list[Part]:
    """The label of a name, or each one that has voxels and is not locked.

    Parameters
    ----------
    margin : in the unit of the map's space
        How much wider than the label its part is.

    Raises
    ------
    Trouble
        When there is no such label, it is locked or empty, or none is left to work on.
    """
    rows = [labels.table.named(label)] if label else [row for row in labels.table if not row.locked]
    for row in rows:
        labels.require_unlocked(row)
    rows = [row for row in rows if labels.counts[row.number]]
    if not rows:
        if label:
            raise Trouble(f"“{label}” has no voxel", "draw it first")
        raise Trouble(f"“{labels.name}” has no label that is drawn and not locked", "draw one, or unlock it")
    boxes = boxes_of(labels.kji)
    rows = [row for row in rows if row.number in boxes]  # somebody may just have wiped one away
    if not rows:
        raise Trouble(f"“{labels.name}” has changed meanwhile", "do it again")
    space = labels.space
    i, j, k = (
        min(math.ceil(margin / s * (1 + 1e-6)) + 1, n) if n > 1 else 0 for s, n in zip(space.spacing, space.shape)
    )
    return [Part(row, wider(boxes[row.number], (k, j, i), labels.kji.shape), labels) for row in rows]


class Reshaped:
    """Labels with other voxels than before, put together label by label.

    Parameters
    ----------
    several : list of Part
        What is worked on.
    over : bool
        Whether a label may take voxels of others that are not locked.
    """

    def __init__(self, labels: LabelMap, several: list[Part], over: bool = False):
        self.labels, self.over = labels, over
        self.box = round_all([part.box for part in several])
        self.after = labels.kji[self.box].copy()
        self._allowed = labels.writable()

    def within(self, part: Part) -> Box:
        """A part's place among the voxels that are worked on."""
        return seen_from(part.box, self.box)

    def give(self, part: Part, mask: np.ndarray) -> None:
        """Give a label the voxels of a mask of its part: those that it loses become free; those that it gets are free
        ones, or of others where these may be taken."""
        was, now, before = self.labels.kji[part.box], self.after[self.within(part)], part.mask
        now[before & ~mask & (now == part.row.number)] = 0
        free = self._allowed[was] != 0 if self.over else was == 0
        gained = mask & ~before & free
        rivals = gained & (now != was) & (now != 0)
        if rivals.any():
            gained &= ~rivals | self._nearer(part, before, rivals, now)
        now[gained] = part.row.number

    def _nearer(self, part: Part, before: np.ndarray, rivals: np.ndarray, now: np.ndarray) -> np.ndarray:
        """Of the voxels that an earlier label has got and this one wants too, those that lie nearer to this one."""
        from scipy.spatial import cKDTree

        from ..compare import boundary

        steps, was = self.labels.space.affine[:3, :3][:, ::-1], self.labels.kji[part.box]
        places, holders = np.argwhere(rivals), now[rivals]
        own = cKDTree(np.argwhere(boundary(before)) @ steps.T).query(places @ steps.T)[0]
        closer = np.zeros(len(places), bool)
        for holder in np.unique(holders):
            of = np.flatnonzero(holders == holder)
            edge = np.argwhere(boundary(was == holder))
            # one whose voxels all lie outside this part is further away than this one
            closer[of] = own[of] < cKDTree(edge @ steps.T).query(places[of] @ steps.T)[0] if len(edge) else True
        found = np.zeros(rivals.shape, bool)
        found[rivals] = closer
        return found

    def edit(self, title: str) -> LabelEdit:
        """The edit; that nothing has changed stands in its title."""
        k, j, i = (s.start for s in self.box)
        patch = patch_to(self.labels, self.after, (k, j, i))
        told = title if patch.voxels else f"{title}: nothing changed"
        return LabelEdit(told, patch, self.labels.table, self.labels.table)


def reshaped(
    labels: LabelMap,
    label: str | None,
    margin: float,
    work: Callable[[Part, Progress], np.ndarray],
    title: str,
    progress: Progress,
    over: bool = False,
) -> LabelEdit:
    """The edit after which one label, or each, has the voxels that `work` says.

    Parameters
    ----------
    work : callable
        `work(part, progress)`: bool [k, j, i] like the part's mask.
    title : str
        With {} where the name of the label stands.
    """
    several = parts(labels, label, margin)
    made = Reshaped(labels, several, over)
    for n, part in enumerate(several):
        inner = progress.part(n / len(several), (n + 1) / len(several))
        inner.at(0.0, f"Working on {part.row.name}")
        made.give(part, work(part, inner))
    name = f"“{several[0].row.name}”" if len(several) == 1 else f"{len(several)} labels"
    return made.edit(title.format(name))
