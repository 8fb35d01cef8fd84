"""Grow, shrink, open and close labels by a length: with balls in a volume, with discs in each slice or in a picture."""

from __future__ import annotations

from typing import Annotated, Any

import numpy as np

from ...core.errors import Trouble
from ...core.grid_plane import Within, axis_across
from ...core.labels import LabelMap
from ...core.left_out import Found, LeftOut
from ...core.operation import operation
from ...core.parameter import Between, LabelName, Unit
from ...core.patch import LabelEdit
from ...core.progress import Progress, silent
from ...core.space import Space
from .each_label import Part, reshaped
from .near import near


def voxel_side(given: dict[str, Any]) -> Found | None:
    """The longest side of a voxel."""
    labels = given.get("labels")
    return None if labels is None else Found(_longest(labels.space), "the longest side of a voxel")


def _longest(space: Space) -> float:
    return max((s for s, n in zip(space.spacing, space.shape) if n > 1), default=max(space.spacing))


By = Annotated[float | None, Unit("mm"), Between(1e-9, 1e5), LeftOut("one voxel", voxel_side)]
WORDS = {"within": "In", "over": "Over other labels", "label": "Label (all when left out)"}
GROUP = "Shape"
SERRA = ("Serra 1982",)


def once(space: Space, settings: dict[str, Any]) -> float:
    """How far round a voxel labels tell what becomes of it."""
    return settings["by"] or _longest(space)


def twice(space: Space, settings: dict[str, Any]) -> float:
    """The same of what is grown and shrunk in turn."""
    return 2 * once(space, settings)


class Balls:
    """Balls of one size on a grid, or discs in each of its slices."""

    def __init__(self, labels: LabelMap, by: float | None, within: str):
        self.space = labels.space
        self.by = by = by or _longest(labels.space)
        self.told = f"{by:g} {labels.space.unit}"
        self.flat = None if within == "volume" else axis_across(labels.space, within)
        along = [n for n in range(3) if n != self.flat and labels.space.shape[n] > 1]
        least = min((labels.space.spacing[n] for n in along), default=0.0)
        if by * (1 + 1e-5) < least:
            unit = labels.space.unit
            raise Trouble(
                f"{by:g} {unit} is less than a voxel ({least:g} {unit}), so nothing would change",
                f"give {least:g} {unit} or more",
            )

    def grown(self, mask: np.ndarray, progress: Progress) -> np.ndarray:
        """The mask grown: voxels no further than the length from its own."""
        inner = progress.unseen()
        inner.listener = None
        if self.flat is None:
            return near(mask, self.by, self.space, inner).view(bool)
        across = Space(self.space.shape, _stretched(self.space, self.flat, self.by))
        return near(mask, self.by, across, inner).view(bool)

    def shrunk(self, mask: np.ndarray, progress: Progress) -> np.ndarray:
        """The mask shrunk; what lies beyond the grid is not known and takes nothing away."""
        return mask & ~self.grown(~mask, progress)

    def opened(self, mask: np.ndarray, progress: Progress) -> np.ndarray:
        """The mask without what no ball fits into."""
        return mask & self.grown(self.shrunk(mask, progress), progress)

    def closed(self, mask: np.ndarray, progress: Progress) -> np.ndarray:
        """The mask with gaps that no ball fits into."""
        return mask | self.shrunk(self.grown(mask, progress), progress)


def _stretched(space: Space, axis: int, by: float) -> np.ndarray:
    """The affine with slices so far apart that none reaches another."""
    affine = space.affine.copy()
    affine[:3, axis] *= 4 * (by + space.spacing[axis]) / space.spacing[axis]
    return affine


@operation(
    "outline",
    "Grow labels",
    name="dilate",
    keywords="dilate dilation expand morphology morphological thicken enlarge margin",
    called=WORDS,
    rare="within over",
    group=GROUP,
    reach=once,
    methods="Labels were grown by {by} mm",
    cites=SERRA,
)
def dilate(
    labels: LabelMap,
    label: LabelName | None = None,
    *,
    by: By = None,
    within: Within = "volume",
    over: bool = False,
    progress: Progress = silent(),
) -> LabelEdit:
    """Make a label larger: it takes every voxel no further away than a length, middle to middle.

    Dilation with a ball (J. Serra, Image Analysis and Mathematical Morphology, 1982). Of several labels that want one
    voxel the nearest takes it. Locked labels neither gain nor lose.

    Parameters
    ----------
    label : text
        All that are not locked when left out.
    by : mm
        How far; one voxel when left out.
    within : text
        The whole volume with a ball, or each slice of a plane with a disc.
    over : bool
        Whether other labels, if not locked, may be grown over; else free voxels alone are taken.

    Raises
    ------
    Trouble
        When the label is locked or empty, or the length is less than a voxel.
    """
    balls = Balls(labels, by, within)
    return reshaped(
        labels,
        label,
        balls.by,
        lambda part, inner: balls.grown(part.mask, inner),
        f"Grow {{}} by {balls.told}",
        progress,
        over,
    )


@operation(
    "outline",
    "Shrink labels",
    name="erode",
    keywords="erode erosion peel thin morphology morphological reduce",
    called=WORDS,
    rare="within",
    group=GROUP,
    reach=once,
    methods="Labels were shrunk by {by} mm",
    cites=SERRA,
)
def erode(
    labels: LabelMap,
    label: LabelName | None = None,
    *,
    by: By = None,
    within: Within = "volume",
    progress: Progress = silent(),
) -> LabelEdit:
    """Make a label smaller: it loses every voxel no further than a length from what is not the label.

    Erosion with a ball (J. Serra, Image Analysis and Mathematical Morphology, 1982). The edge of the image takes
    nothing away.

    Parameters
    ----------
    label : text
        All that are not locked when left out.
    by : mm
        How far; one voxel when left out.
    within : text
        The whole volume with a ball, or each slice of a plane with a disc.

    Raises
    ------
    Trouble
        When the label is locked or empty, the length is less than a voxel, or no voxel would be left.
    """
    balls = Balls(labels, by, within)

    def work(part: Part, inner: Progress) -> np.ndarray:
        found = balls.shrunk(part.mask, inner)
        if not found.any():
            raise Trouble(f"Shrunk by {balls.told}, no voxel of “{part.row.name}” is left", "give a shorter length")
        return found

    return reshaped(labels, label, balls.by, work, f"Shrink {{}} by {balls.told}", progress)


@operation(
    "outline",
    "Open labels",
    name="open-label",
    keywords="opening morphological morphology remove spurs bridges thin parts despeckle",
    called=WORDS,
    rare="within",
    group=GROUP,
    reach=twice,
    methods="Labels were opened with a ball of {by} mm",
    cites=SERRA,
)
def open_label(
    labels: LabelMap,
    label: LabelName | None = None,
    *,
    by: By = None,
    within: Within = "volume",
    progress: Progress = silent(),
) -> LabelEdit:
    """Take away what a ball does not fit into: spurs, thin bridges, specks; the rest stays as it is.

    Opening: shrunk, then grown by the same length (J. Serra, Image Analysis and Mathematical Morphology, 1982).

    Parameters
    ----------
    label : text
        All that are not locked when left out.
    by : mm
        Radius of the ball; one voxel when left out.
    within : text
        The whole volume with a ball, or each slice of a plane with a disc.

    Raises
    ------
    Trouble
        When the label is locked or empty, the length is less than a voxel, or no voxel would be left.
    """
    balls = Balls(labels, by, within)

    def work(part: Part, inner: Progress) -> np.ndarray:
        found = balls.opened(part.mask, inner)
        if not found.any():
            raise Trouble(
                f"A ball of {balls.told} fits nowhere into “{part.row.name}”, so no voxel would be left",
                "give a shorter length",
            )
        return found

    return reshaped(labels, label, balls.by, work, f"Open {{}} by {balls.told}", progress)


@operation(
    "outline",
    "Close labels",
    name="close-label",
    keywords="closing morphological morphology fill gaps cracks smooth",
    called=WORDS,
    rare="within over",
    group=GROUP,
    reach=twice,
    methods="Labels were closed with a ball of {by} mm",
    cites=SERRA,
)
def close_label(
    labels: LabelMap,
    label: LabelName | None = None,
    *,
    by: By = None,
    within: Within = "volume",
    over: bool = False,
    progress: Progress = silent(),
) -> LabelEdit:
    """Fill gaps and cracks that a ball does not fit into; the rest stays as it is.

    Closing: grown, then shrunk by the same length (J. Serra, Image Analysis and Mathematical Morphology, 1982).

    Parameters
    ----------
    label : text
        All that are not locked when left out.
    by : mm
        Radius of the ball; one voxel when left out.
    within : text
        The whole volume with a ball, or each slice of a plane with a disc.
    over : bool
        Whether other labels, if not locked, may be taken over; else free voxels alone are filled.

    Raises
    ------
    Trouble
        When the label is locked or empty, or the length is less than a voxel.
    """
    balls = Balls(labels, by, within)
    title = f"Close {{}} by {balls.told}"
    return reshaped(
        labels, label, 2 * balls.by, lambda part, inner: balls.closed(part.mask, inner), title, progress, over
    )
