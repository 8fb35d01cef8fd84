"""Follow a vessel: from click to click along its middle, and its width painted as a label."""

from __future__ import annotations

import math
from typing import Annotated, Literal, NamedTuple

import numpy as np

from ...core.digits import decimals_of
from ...core.errors import Trouble
from ...core.geometry.typed_points import points_of
from ...core.image import Image
from ...core.labels import LabelMap
from ...core.left_out import LeftOut
from ...core.on_grid import require_same_grid
from ...core.operation import operation
from ...core.parameter import Between, LabelName, Role, Unit
from ...core.patch import LabelEdit, patch_from_mask
from ...core.progress import Progress, silent
from ...core.table import Column, Table
from .path import Course, cheapest_way, measured
from .tubes import tube_likeness

GROUP = "Vessels"
FLOOR = 0.03
"""What a voxel that is like no tube counts for; the smaller, the further a way goes round to stay in a vessel."""
WALL = 1e4
"""What a voxel of another label costs."""
MARGIN = 0.35
"""How far beside the straight line between two places a vessel may run, in its length."""
MOST = 1 << 25


class Followed(NamedTuple):
    """A label with more of the vessel, and its course."""

    labels: LabelEdit
    course: Table


@operation(
    "outline",
    "Follow a vessel",
    name="follow-vessel",
    keywords="artery vein centreline centerline tube trace minimal path vesselness angiography vascular",
    called={"look": "Vessels are", "widest": "Widest radius", "over": "Over other labels"},
    rare="look widest over",
    group=GROUP,
    methods="Vessels were followed along minimal paths through a tube filter",
    cites=("Sato 1998", "Frangi 1998", "Cohen 1997"),
)
def follow_vessel(
    image: Image,
    labels: LabelMap,
    points: Annotated[str, Unit("mm"), Role("places")],
    label: LabelName = "Vessel",
    *,
    look: Annotated[Literal["bright", "dark"] | None, LeftOut("as at the points")] = None,
    widest: Annotated[float | None, Unit("mm"), Between(1e-9, 1e4), LeftOut("six voxels")] = None,
    over: bool = False,
    progress: Progress = silent(),
) -> Followed:
    """Give a label to a vessel between places on it.

    The way runs where the image is most like a tube (Y. Sato et al., Medical Image Analysis 2, 1998; A. F. Frangi et
    al., MICCAI 1998) as the cheapest there is (L. D. Cohen and R. Kimmel, Int. J. Comput. Vis. 24, 1997), goes into no
    other label, and is brought to the vessel's middle; its width is where the image has fallen half-way. A branch
    begins at a place on what is labelled already.

    Parameters
    ----------
    points : mm
        Two places on the vessel or more, in order.
    label : text
        Made when there is none of that name.
    look : "bright" or "dark"
        Beside what is round them.
    widest : mm
        Largest radius that is looked for.
    over : bool
        Whether voxels of other labels, if not locked, are taken too.

    Returns
    -------
    labels : LabelEdit
    course : Table
        The middle of the vessel with its radius, and where it could not be made out.

    Raises
    ------
    Trouble
        When there are fewer than two points, one lies outside the image, they lie too far apart, or the label is
        locked.
    """
    require_same_grid(image, labels)
    table, row = labels.row_or_new(label)
    space = image.space
    where = points_of(points, space.unit)
    if len(where) < 2:
        raise Trouble("A vessel is followed between two places at least", "give another point")
    voxels = []
    for place in where:
        voxel = space.nearest_voxel(place)
        if voxel is None:
            told = ", ".join(f"{v:.4g}" for v in place)
            raise Trouble(f"The point ({told}) lies outside “{image.name}”", "choose a place on the vessel")
        voxels.append(voxel[::-1])
    spacing = np.array(space.spacing[::-1])
    fine = float(min(s for s, n in zip(space.spacing, space.shape) if n > 1))
    most = widest if widest is not None else 6 * fine
    at = np.array(voxels)
    box = _room(at, spacing, image.kji.shape, most)
    if math.prod(s.stop - s.start for s in box) > MOST:
        raise Trouble("The points lie too far apart", "set more of them between")
    values = np.asarray(image.kji[box], np.float32)
    values = np.where(np.isfinite(values), values, np.nanmedian(values) if np.isfinite(values).any() else 0.0)
    values = values.astype(np.float32)
    inner = at - [s.start for s in box]
    progress.at(0.1, "Looking for tubes")
    signs = {"bright": [1.0], "dark": [-1.0], None: [1.0, -1.0]}[look]
    radii = _radii(fine, most)
    tubes = max(
        ((s, tube_likeness(values, s, radii, spacing)) for s in signs),
        key=lambda pair: float(np.mean([_best_near(pair[1], p) for p in inner])),
    )
    sign, likeness = tubes
    progress.at(0.5, "Following the vessel")
    cost = 1.0 / (np.float32(FLOOR) + likeness.astype(float))
    under = labels.kji[box]
    cost[(under != 0) & (under != row.number)] += WALL
    way: list[np.ndarray] = []
    for a, b in zip(inner, inner[1:]):
        part = cheapest_way(cost, a, b, spacing)
        way.append(part[1:] if way else part)
        progress.at(0.5 + 0.3 * len(way) / (len(inner) - 1), "Following the vessel")
    course = measured(values, sign, np.concatenate(way), most, spacing)
    mask = _painted(course, under.shape, spacing, fine)
    if not over:
        mask &= under == 0
    corner = tuple(s.start for s in box)
    patch = patch_from_mask(labels, mask.view(np.uint8), row.number, corner)
    edit = LabelEdit(f"Follow “{row.name}” through {len(where)} places", patch, labels.table, table)
    return Followed(edit, _table(course, box, space, row.name))


def _best_near(likeness: np.ndarray, at: np.ndarray) -> float:
    part = tuple(slice(max(0, int(a) - 1), int(a) + 2) for a in at)
    return float(likeness[part].max())


def _radii(fine: float, most: float) -> list[float]:
    count = max(1, math.ceil(math.log2(max(most / fine, 1.0)))) + 1
    return [float(r) for r in np.geomspace(fine, max(most, fine), count)]


def _room(at: np.ndarray, spacing: np.ndarray, shape, most: float) -> tuple[slice, slice, slice]:
    """The part of the grid in which a vessel may run."""
    length = max(float(np.linalg.norm((b - a) * spacing)) for a, b in zip(at, at[1:]))
    beyond = np.ceil((MARGIN * length + 3 * most) / spacing).astype(int)
    low, high = np.maximum(at.min(0) - beyond, 0), np.minimum(at.max(0) + beyond, np.array(shape) - 1)
    k, j, i = (slice(int(a), int(b) + 1) for a, b in zip(low, high))
    return k, j, i


def _painted(course: Course, shape, spacing: np.ndarray, fine: float) -> np.ndarray:
    """Voxels whose middle lies within the radius of the vessel's middle."""
    found = np.zeros(shape, bool)
    line, radii = course.places, np.maximum(course.radii, 0.5 * fine)
    steps = np.linalg.norm(np.diff(line, axis=0) * spacing, axis=1) if len(line) > 1 else np.zeros(0)
    dense = [(line[0], radii[0])]
    for n, length in enumerate(steps):
        count = max(1, math.ceil(length / (0.5 * fine)))
        for m in range(1, count + 1):
            share = m / count
            dense.append((line[n] + share * (line[n + 1] - line[n]), radii[n] + share * (radii[n + 1] - radii[n])))
    for at, radius in dense:
        reach = np.ceil(radius / spacing).astype(int)
        low = np.maximum(np.floor(at).astype(int) - reach, 0)
        high = np.minimum(np.ceil(at).astype(int) + reach + 1, shape)
        if (high <= low).any():
            continue
        grid = np.ogrid[tuple(slice(a, b) for a, b in zip(low, high))]
        away = sum(((g - a) * s) ** 2 for g, a, s in zip(grid, at, spacing))
        found[tuple(slice(a, b) for a, b in zip(low, high))] |= away <= radius**2
        nearest = tuple(np.clip(np.round(at).astype(int), 0, np.array(shape) - 1))
        found[nearest] = True
    return found


def _table(course: Course, box, space, name: str) -> Table:
    places = space.to_world((course.places + [s.start for s in box])[:, ::-1])
    digits = decimals_of(min(space.spacing) / 10)
    columns = [*(Column(axis, space.unit, digits) for axis in "xyz"), Column("radius", space.unit, digits)]
    table = Table(f"Course of {name}", [*columns, Column("seen", "", 2)])
    table.rows += [
        (*map(float, place), float(radius), float(sure))
        for place, radius, sure in zip(places, course.radii, course.sure)
    ]
    return table
