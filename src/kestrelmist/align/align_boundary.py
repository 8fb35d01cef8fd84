"""Align a functional series with the anatomy of the same subject along the boundary of white matter."""

from __future__ import annotations

from typing import Annotated, Any, Literal, NamedTuple

import numpy as np

from ..core.errors import Trouble
from ..core.image import Image
from ..core.left_out import Found, Leads, LeftOut, Suits
from ..core.mapping import Mapping
from ..core.mean_volume import mean_volume
from ..core.off_resonance import hertz_of, is_field
from ..core.operation import operation
from ..core.overlap import require_one_world
from ..core.parameter import Between, Unit
from ..core.progress import Progress, silent
from ..core.table import Column, Table
from ..core.transform import Transform
from ..formats.echo_lines import found_direction, found_spacing, lines_of
from .affine_fit import fitted, gone_on
from .align_images import affine_start
from .boundary import LEAST, Across, Boundary, boundary_of
from .freedom import freedom, numbers_of
from .levels import Sides, grain_of, levels_of
from .sides import require_comparable, side_of
from .similar import similarity_named

DEEP = 2 / 3
"""Voxels of the series at which both sides of the boundary are looked at."""
ROUNDS = (2.0, 1.0)
"""Depths that are gone through, as shares of the last."""
LITTLE = 2.0
"""Percent of change across the boundary below which it tells nothing."""
BRIGHTER = {"outside": 1, "inside": -1}


class AlongBoundary(NamedTuple):
    """Where the series lies, and how much it changes across the boundary."""

    transform: Mapping
    report: Table


def depth_of(given: dict[str, Any]) -> Found | None:
    """Two thirds of a voxel of the series."""
    image = given.get("image")
    return None if image is None else Found(DEEP * grain_of(image.space), "two thirds of a voxel")


def _spacing_for_field(given: dict[str, Any]) -> Found | None:
    return None if given.get("field") is None else found_spacing(given)


def _direction_for_field(given: dict[str, Any]) -> Found | None:
    return None if given.get("field") is None else found_direction(given)


@operation(
    "align",
    "Align along white matter",
    name="align-boundary",
    keywords=(
        "register registration coregister functional to anatomical structural epi t1 boundary based white matter bold "
        "fmri coregistration"
    ),
    takes="series",
    called={
        "image": "Moves",
        "onto": "Onto (anatomy)",
        "white": "White matter",
        "field": "Field map",
        "magnitude": "Its magnitude",
        "brighter": "Brighter side",
        "start": "Begin with",
        "direction": "Read along",
    },
    rare="magnitude echo_spacing direction start brighter depth",
    group="Two images",
    made_by={"white": "split-tissues", "field": "field-map"},
    methods="Functional series were aligned with the anatomy along the boundary of white matter (6 degrees of freedom)",
    cites=("Greve 2009", "Jezzard 1995"),
)
def align_boundary(
    image: Image,
    onto: Image,
    white: Image,
    field: Annotated[Image | None, Suits("a field map in Hz or rad/s", is_field)] = None,
    magnitude: Image | None = None,
    *,
    depth: Annotated[float | None, Unit("mm"), Between(1e-9, 1e6), LeftOut("two thirds of a voxel", depth_of)] = None,
    brighter: Annotated[Literal["outside", "inside"] | None, LeftOut("by what is seen")] = None,
    echo_spacing: Annotated[
        float | None, Unit("s"), Between(0, 1e6), LeftOut("from the sidecar", _spacing_for_field)
    ] = None,
    direction: Annotated[str | None, LeftOut("from the sidecar", _direction_for_field)] = None,
    start: Annotated[Mapping | None, Leads("onto", "image")] = None,
    progress: Progress = silent(),
) -> AlongBoundary:
    """Find where a functional series lies to the anatomy of the same subject, by shift and turn: so that it changes
    most across the boundary of white matter (D. N. Greve and B. Fischl, NeuroImage 48, 2009). Nothing is resampled.

    It begins where mutual information lays it, or with a transform that is given; the series may see part of the head
    only. Where it hardly changes across the boundary, as when its voxels are coarser than white matter is thick, it
    stays where it began, and the report says so.

    Parameters
    ----------
    image : image
        One volume, or a series, of which the mean is taken: correct its motion first, or name its reference.
    onto : image
        The anatomy, of the same subject.
    white : image
        Shares of white matter, 0 to 1, as “Split tissues” gives them, in the world of the anatomy.
    field : image
        Where the field is off resonance, Hz or rad/s: the boundary is looked at where the series' distortion takes it.
        It is taken where it lies in the world of the anatomy, or where its magnitude fits that.
    magnitude : image
        Of the field map: it is lined up with the anatomy first, and the map with it.
    depth : mm
        How far inside and outside the boundary the series is looked at.
    brighter : text
        Which side of the boundary is the brighter one; in T2* it is the outside.
    echo_spacing, direction : s, text
        Of the lines of the series, where there is a field map; see “Undistort”.
    start : transform
        Where to begin, from the anatomy to the series.

    Returns
    -------
    transform : Mapping
        From places of the anatomy to where they are found in the series, as ITK has it; where there is a field map, in
        the series as it is once it is undistorted.
    report : Table
        Places of the boundary that are seen, change across it in percent before and after, how many change the right
        way, shift (mm) and turns (degrees).

    Raises
    ------
    Trouble
        When one of them is a picture, shares are none, white matter or field lie in another world, or too little of the
        boundary is seen.
    """
    if require_comparable(image, onto):
        raise Trouble(f"“{image.name}” is a picture, and a boundary runs through volumes", "choose volumes")
    require_one_world(onto, white)
    boundary = boundary_of(_shares(white), white.space, white.name)
    depth = float(depth or DEEP * grain_of(image.space))
    mean = mean_volume(image, progress.part(0.0, 0.2)) if image.axes else _finite(image.kji)
    aside, axis = np.zeros(len(boundary.places)), 0
    if field is not None:
        hertz = hertz_of(field)
        lines = lines_of(image, echo_spacing or 0.0, direction or "")
        axis = lines.axis
        aside = _at_boundary(hertz, field, magnitude, onto, boundary, progress.part(0.2, 0.35)) * lines.voxels_a_hz
    elif magnitude is not None:
        raise Trouble("A magnitude tells where a field map lies, and none is given", "name the field map too")
    begun, rest = affine_start(start), progress.part(0.35, 1.0)
    if start is None:
        begun = _by_information(mean, image, onto, rest.part(0.0, 0.5))
        begun[:3, 3] -= np.median(aside) * image.space.affine[:3, axis]  # where it would lie without the shift of all
    seen = Across(mean, image.space, boundary, depth, 1.0, 1, aside, axis).changes(begun)
    if np.isfinite(seen).sum() < LEAST // 2:
        raise Trouble(
            f"Too little of the boundary of “{white.name}” lies in “{image.name}” to begin there",
            "bring them nearer by hand, or begin with a transform",
        )
    sign = BRIGHTER[brighter] if brighter else (-1 if np.nanmedian(seen) < -LITTLE else 1)
    usual = max(float(np.nanmedian(np.abs(seen))), 1e-6)
    matrix, of = begun, freedom(6, False)
    for n, share in enumerate(ROUNDS):
        cost = Across(mean, image.space, boundary, share * depth, usual, sign, aside, axis)
        part = rest.part(0.5 + 0.25 * n, 0.75 + 0.25 * n)
        matrix, _ = gone_on(cost, of, matrix, part, (n + 1, len(ROUNDS)))
    told = Across(mean, image.space, boundary, depth, usual, sign, aside, axis)
    after = told.changes(matrix)
    flat = bool(np.nanmedian(after) * sign < LITTLE)
    if flat:  # what is found then is found in noise
        matrix, after = begun, told.changes(begun)
    name = f"{image.name} to {onto.name} along white matter"
    made = Transform(matrix, onto.space.world, image.space.world, name, image.subject or onto.subject)
    return AlongBoundary(made, _report(name, boundary, seen, after, sign, matrix, begun, brighter is None, flat))


def _shares(white: Image) -> np.ndarray:
    """Shares of white matter, 0 to 1; of a mask with one value besides 0 that is the whole."""
    values = _finite(white.kji)
    top = float(values.max())
    if top > 1.001 and np.all((values == 0) | (values == top)):
        return values / np.float32(top)
    if values.min() < -0.001 or top > 1.001:
        raise Trouble(
            f"“{white.name}” goes from {values.min():.3g} to {top:.3g}, and shares of white matter from 0 to 1",
            "choose what “Split tissues” gives",
        )
    return values


def _by_information(mean: np.ndarray, image: Image, onto: Image, progress: Progress) -> np.ndarray:
    """From the anatomy to the series, by mutual information; the series stays, as it may see a part only."""
    part = Sides(mean, image.space, None, image.name)
    levels = levels_of(part, side_of(onto, None, progress.part(0.0, 0.2)), shrinks=(4, 2, 1))
    measure = similarity_named("normalised-information")
    back = fitted(levels, measure, freedom(6, False), np.eye(4), progress.part(0.2, 1.0).unseen())
    return np.linalg.inv(back)


def _at_boundary(
    hertz: np.ndarray,
    field: Image,
    magnitude: Image | None,
    onto: Image,
    boundary: Boundary,
    progress: Progress,
) -> np.ndarray:
    """Hz at the places of the boundary; carried on where the map ends."""
    from scipy import ndimage

    there = np.isfinite(hertz)
    if not there.all():
        near = ndimage.distance_transform_edt(
            ~there, sampling=field.space.spacing[::-1], return_distances=False, return_indices=True
        )
        hertz = hertz[tuple(near)]
    way = np.eye(4)
    if magnitude is None:
        require_one_world(onto, field)
    else:
        if not magnitude.space.same_grid(field.space):
            raise Trouble(
                f"“{magnitude.name}” lies on another grid than “{field.name}”", "choose the one of the field map"
            )
        values = mean_volume(magnitude, progress.part(0.0, 0.3)) if magnitude.axes else magnitude.kji
        way = _by_information(_finite(values), magnitude, onto, progress.part(0.3, 1.0))
    at = field.space.to_voxel(boundary.places @ way[:3, :3].T + way[:3, 3])
    inside = ((at > -0.5) & (at < np.array(field.space.shape) - 0.5)).all(1)
    if inside.mean() < 0.05:
        raise Trouble(f"“{field.name}” does not lie where “{onto.name}” does", "give its magnitude, or place it first")
    return ndimage.map_coordinates(hertz, at.T[::-1], order=1, mode="nearest")


def _report(
    name: str,
    boundary: Boundary,
    before: np.ndarray,
    after: np.ndarray,
    sign: int,
    matrix: np.ndarray,
    begun: np.ndarray,
    by_itself: bool,
    flat: bool,
) -> Table:
    known = np.isfinite(after)
    change = float(np.median(after[known])) * sign
    centre = boundary.places.mean(0)
    numbers = numbers_of(matrix, centre)
    moved = np.linalg.norm((boundary.places @ (matrix - begun)[:3, :3].T) + (matrix - begun)[:3, 3], axis=1)
    rows: list[tuple[str, Any, str]] = [
        ("places of the boundary that are seen", int(known.sum()), ""),
        ("share of them", 100 * float(known.mean()), "%"),
        ("brighter side", ("outside" if sign > 0 else "inside") + (", by what is seen" if by_itself else ""), ""),
        ("change across it at the start", float(np.nanmedian(before)) * sign, "%"),
        ("change across it", change, "%"),
        ("places that change this way", 100 * float((after[known] * sign > 0).mean()), "%"),
        ("moved along it from the start, mean", float(moved.mean()), "mm"),
    ]
    rows += [(f"shift {axis}", float(v), "mm") for axis, v in zip("xyz", numbers[:3])]
    rows += [(f"turn {axis}", float(np.degrees(v)), "degrees") for axis, v in zip("xyz", numbers[3:6])]
    if flat:
        rows.append(
            ("doubt", f"it changes by less than {LITTLE:g} % across the boundary, so it stayed where it began", "")
        )
    elif change < float(np.nanmedian(before)) * sign:
        rows.append(("doubt", "it changes less across the boundary than at the start", ""))
    return Table(f"{name}, how it fits", [Column("what"), Column("value", figures=4), Column("unit")], rows)


def _finite(values: np.ndarray) -> np.ndarray:
    """Values with 0 in place of missing ones."""
    return np.where(np.isfinite(values), values, 0).astype(np.float32)
