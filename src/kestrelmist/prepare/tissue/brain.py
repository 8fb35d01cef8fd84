"""The brain out of a head: the roundest thick body of nearly one brightness, let grow until it would leak."""

from __future__ import annotations

import math
from typing import Annotated, NamedTuple

import numpy as np

from ...core.depth import depth_inside
from ...core.errors import Trouble
from ...core.image import Image
from ...core.labels import LabelMap
from ...core.left_out import LeftOut
from ...core.mean_volume import mean_volume
from ...core.on_grid import require_same_grid
from ...core.operation import operation
from ...core.parameter import Between, LabelName, Unit
from ...core.patch import LabelEdit
from ...core.progress import Progress, silent
from ...core.resampling import resampled
from .cranium import inside_of_skull
from .given_label import found_anew

WORK = 128
"""Voxels along the longest side of the grid on which the brain is sought."""
FINER = 1.5
"""Where voxels are longer than wide by this much, the brain is sought on a grid this much finer than their shortest
side: surfaces lie between their middles there."""
SHARES = (0.8, 0.75, 0.7, 0.65, 0.6, 0.55, 0.5)
"""Lowest brightness that belongs, as shares of the deep brain's; tried from the first on."""
LEAK = 1.15
"""A step to a lower limit that makes the body this much larger has broken through into what lies around it."""
BRIGHTEST = 1.35
"""Highest brightness that belongs, as a share of the deep brain's: fluid is brighter where it is bright, and so is fat
beside the brain. Holes that this leaves inside are filled."""
NECK = 0.12
"""Bridges to what lies around are cut when they are thinner than twice this share of the brain's inner radius."""
FOLD = 0.1
"""Folds and channels narrower than twice this share of the inner radius are closed."""
STARTS = 4
"""Thick bodies that are looked at."""


class Body(NamedTuple):
    """A thick place to begin with."""

    at: tuple[int, int, int]
    radius: float
    """In mm, of the largest ball round the place that is brighter than air throughout."""
    brightness: float


@operation(
    "prepare",
    "Take out the brain",
    name="take-out-brain",
    keywords=(
        "brain extraction skull stripping mask head skull ct skull strip skull-strip skullstripping brain mask deskull"
    ),
    takes="series",
    group="Taken out",
    reach=math.inf,
    through_time=True,
    called={"looser": "Tighter, looser", "start": "Start from", "radius": "Inner radius"},
    rare="start radius",
    methods="The brain was labelled by thresholding and openings that cut thin bridges",
    cites=(
        "Serra 1982",
        "Otsu 1979",
    ),
)
def take_out_brain(
    image: Image,
    labels: LabelMap,
    label: LabelName = "Brain",
    looser: Annotated[float, Between(-1, 1)] = 0.0,
    *,
    start: Annotated[tuple[float, float, float] | None, Unit("mm"), LeftOut("found")] = None,
    radius: Annotated[float | None, Unit("mm"), Between(0, 1e4), LeftOut("found", was=0.0)] = None,
    progress: Progress = silent(),
) -> LabelEdit:
    """Label the brain in an MR head, or what the skull holds in a CT.

    The brain is taken for the roundest of the thick bodies of nearly one brightness. The lowest brightness that
    belongs to it falls step by step, with thin bridges cut (an opening: J. Serra, Image Analysis and Mathematical
    Morphology, 1982), until it would break through into muscle and skin; then folds are closed and holes filled.
    Meant for MR with grey matter brighter than skull, T1 or of a functional series; where fluid is bright (T2), some
    of the fluid round the brain comes along. A series is looked at through the mean of its volumes. In a CT (in HU) it
    is the soft tissue that bone encloses best; looser, start and radius mean nothing there.

    Parameters
    ----------
    label : str
        Label to give; made when there is none of that name. Outside the brain it is taken away, so that it can be done
        again, tighter or looser; voxels of other labels keep theirs.
    looser : number
        −1 to 1: above 0 darker edges belong, below 0 only bright ones do.
    start : three mm
        World position in the brain; found when left out.
    radius : mm
        Of a ball inside the brain round the start; found when left out.

    Raises
    ------
    Trouble
        When the image has too few slices, values far below 0 without being in HU, or holds no such body.
    """
    require_same_grid(image, labels)
    if min(image.space.shape) < 4:
        raise Trouble(f"“{image.name}” has too few slices to seek a brain in", "choose a volume")
    table, row = labels.row_or_new(label)
    values = mean_volume(image, progress.part(0.0, 0.3))
    if image.unit == "HU":
        mask = inside_of_skull(values, image.space.spacing, progress.part(0.3, 0.95))
    elif np.mean(values < -0.05 * np.percentile(np.abs(values), 99)) > 0.1:
        raise Trouble(
            f"Much of “{image.name}” is far below 0, and the brain is sought in the brightness of an MR",
            "choose an MR that is not standardised, or give a CT its unit, HU",
        )
    else:
        mask = brain_mask(
            values, image.space.spacing, looser, _voxel(image, start), radius or 0.0, progress.part(0.3, 0.95)
        )
    if not mask.any():
        raise Trouble(f"No brain was found in “{image.name}”", "give a place in it to start from")
    return found_anew(labels, table, row, mask, "Take out")


def brain_mask(
    values: np.ndarray,
    spacing,
    looser: float = 0.0,
    start: np.ndarray | None = None,
    radius: float = 0.0,
    progress: Progress | None = None,
) -> np.ndarray:
    """Where the brain is.

    Parameters
    ----------
    values : float32 array [k, j, i]
        Without missing values.
    spacing : mm along i, j, k
    start : voxel (i, j, k)

    Returns
    -------
    bool array [k, j, i]; without anything when no body was found.
    """
    from scipy import ndimage

    progress = progress or silent()
    spacing = np.asarray(spacing, float)
    there = np.array(values.shape[::-1])
    shortest = float(spacing.min())
    step = max(
        shortest / FINER if spacing.max() > FINER * shortest else shortest, float((there * spacing).max()) / WORK
    )
    shape = np.maximum(np.ceil(there * spacing / step), 1).astype(int)
    frame = np.column_stack([np.diag(step / spacing), (there - 1) / 2 - step / spacing * (shape - 1) / 2])
    small = resampled(values, frame, tuple(shape), "linear", 0.0)
    small = ndimage.gaussian_filter(small, 0.5)
    away = None if start is None else ((start - frame[:, 3]) * spacing / step)[::-1]
    body = _roundest(small, step, away, radius, progress.part(0.05, 0.5))
    if body is None:
        return np.zeros(values.shape, bool)
    grown = _grown(small, step, body, looser, progress.part(0.5, 0.9))
    if not grown.any():
        return np.zeros(values.shape, bool)
    back = np.column_stack([np.diag(spacing / step), -frame[:, 3] * spacing / step])
    return resampled(grown.astype(np.float32), back, tuple(there), "linear", 0.0) > 0.5


def _roundest(
    small: np.ndarray, step: float, start: np.ndarray | None, radius: float, progress: Progress
) -> Body | None:
    from skimage.filters import threshold_otsu

    above = small[small > 0]
    if not above.size or above.min() == above.max():
        return None
    depth = depth_inside(small > threshold_otsu(above), step)
    if start is not None:
        return _body(
            small, depth, step, tuple(np.clip(np.round(start), 0, np.array(small.shape) - 1).astype(int)), radius
        )
    found: list[tuple[float, Body]] = []
    deepest = float(depth.max())
    for n in range(STARTS):
        progress.at(n / STARTS, "Seeking the brain")
        body = _body(small, depth, step, np.unravel_index(int(np.argmax(depth)), depth.shape))
        if body.radius < 0.5 * deepest or body.radius <= 0:
            break
        found.append((_roundness(_connected(small, step, body, 0.75), step), body))
        depth = np.where(_within(small.shape, body.at, body.radius / step), 0, depth)
    return max(found, key=lambda f: f[0])[1] if found else None


def _body(small: np.ndarray, depth: np.ndarray, step: float, at, radius: float = 0.0) -> Body:
    radius = radius or float(depth[at]) or 3 * step
    near = _within(small.shape, at, max(0.6 * radius / step, 1.0))
    return Body((int(at[0]), int(at[1]), int(at[2])), radius, float(np.median(small[near])))


def _grown(small: np.ndarray, step: float, body: Body, looser: float, progress: Progress) -> np.ndarray:
    """The body at the lowest limit that does not leak, closed and filled."""
    last = np.zeros(small.shape, bool)
    for n, share in enumerate(SHARES):
        progress.at(n / len(SHARES), "Letting it grow")
        found = _connected(small, step, body, share - 0.15 * looser)
        if last.any() and found.sum() > LEAK * last.sum():
            found = _connected(small, step, body, (share + SHARES[n - 1]) / 2 - 0.15 * looser)
            return _filled(last if found.sum() > LEAK * last.sum() else found, step, body)
        last = found
    return _filled(last, step, body)


def _filled(last: np.ndarray, step: float, body: Body) -> np.ndarray:
    from scipy import ndimage

    fold = FOLD * body.radius
    room = int(np.ceil(fold / step)) + 2
    grown = depth_inside(~np.pad(last, room), step) <= fold
    closed = (depth_inside(grown, step) > fold)[(slice(room, -room),) * 3]
    return ndimage.binary_fill_holes(closed | last)


def _connected(small: np.ndarray, step: float, body: Body, share: float) -> np.ndarray:
    """What hangs together with the body and is nearly as bright, thin bridges cut."""
    from scipy import ndimage

    bright = (small > share * body.brightness) & (small < BRIGHTEST * body.brightness)
    depth = depth_inside(bright, step)
    near = _within(small.shape, body.at, max(0.7 * body.radius / step, 1.5))
    at = np.unravel_index(int(np.argmax(np.where(near, depth, 0))), depth.shape)
    cut = NECK * body.radius
    pieces, _ = ndimage.label(depth > cut)
    if not pieces[at]:
        return np.zeros(small.shape, bool)
    return depth_inside(pieces != pieces[at], step) <= cut


def _roundness(mask: np.ndarray, step: float) -> float:
    """1 for a ball counted without steps: the surface of a ball of this volume over the mask's own."""
    surface = sum(np.count_nonzero(np.diff(mask.view(np.int8), axis=axis)) for axis in range(3)) * step**2
    volume = np.count_nonzero(mask) * step**3
    return float((36 * np.pi) ** (1 / 3) * volume ** (2 / 3) / surface) if surface else 0.0


def _within(shape: tuple[int, ...], at, voxels: float) -> np.ndarray:
    away = np.zeros((1, 1, 1))
    for axis, n in enumerate(at):
        line = (np.arange(shape[axis]) - n) ** 2.0
        away = away + line.reshape([-1 if a == axis else 1 for a in range(3)])
    return away < voxels**2


def _voxel(image: Image, start: tuple[float, float, float] | None) -> np.ndarray | None:
    if start is None:
        return None
    voxel = image.space.to_voxel(np.asarray(start, float))
    if not ((voxel > -0.5) & (voxel < np.array(image.space.shape) - 0.5)).all():
        raise Trouble(f"The start lies outside “{image.name}”", "choose a point in the brain")
    return voxel
