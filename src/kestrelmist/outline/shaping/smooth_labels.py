"""Smooth labels: their surfaces become even, and their volumes stay."""

from __future__ import annotations

from typing import Annotated, Any

import numpy as np

from ...core.grid_plane import Within, axis_across
from ...core.labels import LabelMap
from ...core.left_out import Found, LeftOut
from ...core.operation import operation
from ...core.parameter import Between, LabelName, Unit
from ...core.patch import LabelEdit
from ...core.progress import Progress, silent
from ...core.space import Space
from .each_label import Part, Reshaped, parts
from .grow_shrink import GROUP, WORDS, voxel_side

WIDTH = 2.3548
"""Full width at half maximum of a Gaussian, in standard deviations."""
ROUNDS, CLOSE = 8, 0.002
"""Times that levels are set anew while labels that touch share voxels out; the share of a volume that may be off."""


def three_voxels(given: dict[str, Any]) -> Found | None:
    """Three times the longest side of a voxel."""
    side = voxel_side(given)
    return None if side is None else Found(3 * side.value, "three voxels")


def _reach(space: Space, settings: dict[str, Any]) -> float:
    return 1.5 * (settings["by"] or 3 * max(space.spacing))


@operation(
    "outline",
    "Smooth labels",
    name="smooth-label",
    keywords="rounded surface stairs jagged edges gaussian anti-alias median majority",
    called=WORDS,
    rare="within",
    group=GROUP,
    reach=_reach,
    methods="Labels were smoothed over {by} mm, volumes kept",
)
def smooth_label(
    labels: LabelMap,
    label: LabelName | None = None,
    *,
    by: Annotated[float | None, Unit("mm"), Between(1e-9, 1e5), LeftOut("three voxels", three_voxels)] = None,
    within: Within = "volume",
    keep_volume: bool = True,
    progress: Progress = silent(),
) -> LabelEdit:
    """Make the surface of a label even.

    The label is blurred by a Gaussian and cut where as many voxels as before lie above the level; without keeping the
    volume, half-way. Other labels stay as they are; of several that
    are smoothed at once, a voxel goes to the one that is further above its level.

    Parameters
    ----------
    label : text
        All that are not locked when left out.
    by : mm
        Bumps and stairs up to this size are smoothed: full width at half maximum of the Gaussian.
    within : text
        The whole volume, or each slice of a plane by itself.
    keep_volume : bool
        Whether the volume stays as it is.

    Raises
    ------
    Trouble
        When the label is locked or empty.
    """
    if by is None:
        by = float(three_voxels({"labels": labels}).value)  # type: ignore[union-attr]
    space, shape = labels.space, np.array(labels.kji.shape)
    sigma = by / WIDTH / np.array(space.spacing)[::-1] * (shape > 1)
    if within != "volume":
        sigma[2 - axis_across(space, within)] = 0.0
    several = parts(labels, label, 1.5 * by)
    fields = []
    for n, part in enumerate(several):
        progress.at(0.7 * n / len(several), f"Smoothing {part.row.name}")
        fields.append(Field(part, sigma, {one.row.number for one in several}))
    made = Reshaped(labels, several)
    taken = np.isin(made.after, [one.row.number for one in several])
    own = np.where(taken, 0, made.after)
    for rounds in range(ROUNDS if keep_volume else 1):
        progress.at(0.7 + 0.3 * rounds / ROUNDS, "Setting levels")
        made.after, best = own.copy(), np.zeros(own.shape, np.float32)
        for field in fields:
            above = field.soft - (field.level if keep_volume else 0.5)
            here = made.within(field.part)
            wins = above > best[here]
            best[here][wins], made.after[here][wins] = above[wins], field.part.row.number
        wrong = [f.set_anew(int(np.count_nonzero(made.after == f.part.row.number))) for f in fields]
        if len(fields) == 1 or max(wrong) < CLOSE:
            break
    if keep_volume:
        made.after = _filled_up(made, fields, own)
    name = f"“{several[0].row.name}”" if len(several) == 1 else f"{len(several)} labels"
    return made.edit(f"Smooth {name} over {by:g} {space.unit}")


class Field:
    """A label blurred, and the level over which it lies afterwards.

    Parameters
    ----------
    sigma : voxels along k, j, i
    others : set of int
        Numbers of all that are smoothed together; voxels of any other label are out of reach.
    """

    def __init__(self, part: Part, sigma: np.ndarray, others: set[int]):
        from scipy import ndimage

        self.part, mask = part, part.mask
        self.soft = ndimage.gaussian_filter(mask.astype(np.float32), sigma, mode="nearest", truncate=3.0)
        was = part.labels.kji[part.box]
        self.soft[(was != 0) & ~np.isin(was, list(others))] = -1.0
        self.wanted = self.aim = int(np.count_nonzero(mask))
        self._sorted = np.sort(self.soft[self.soft > 1e-4])[::-1]
        self.level = self._level()

    def _level(self) -> float:
        return float(self._sorted[min(max(self.aim, 1), self._sorted.size) - 1])

    def set_anew(self, got: int) -> float:
        """Another level after so many voxels were got; returns by which share they were too few or too many."""
        self.aim += self.wanted - got
        self.level = self._level()
        return abs(got - self.wanted) / self.wanted


def _filled_up(made: Reshaped, fields: list[Field], own: np.ndarray) -> np.ndarray:
    """Voxels that stand at the level itself make up what is missing, those first that the label had before."""
    after = made.after
    for field in fields:
        here, number = made.within(field.part), field.part.row.number
        missing = field.wanted - int(np.count_nonzero(after[here] == number))
        if missing <= 0:
            continue
        at = np.flatnonzero(((after[here] == 0) & (own[here] == 0) & (field.soft > 0)).ravel())
        order = np.lexsort((~field.part.mask.ravel()[at], -field.soft.ravel()[at]))
        part = after[here].copy()
        part.ravel()[at[order[:missing]]] = number
        after[here] = part
    return after
