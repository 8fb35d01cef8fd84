"""Contours carried on: to the next slices, to the other side, to another time."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, Literal

import numpy as np

from ...core.errors import Trouble
from ...core.geometry.mark import Mark
from ...core.geometry.marks import MarkEdit, Marks
from ...core.geometry.numbers_of import numbers_of
from ...core.grid_plane import lying_in
from ...core.image import Image
from ...core.left_out import LeftOut
from ...core.operation import operation
from ...core.parameter import Between, Role, Unit
from .draw import GROUP


@operation(
    "outline",
    "Copy contours on",
    name="copy-marks",
    version=2,
    keywords="duplicate propagate next slice copy contour shift time point frame",
    called={
        "which": "Contours",
        "slices": "By slices",
        "count": "How many times",
        "by": "Shifted by",
        "place": "To volume",
    },
    rare="count by place",
    group=GROUP,
    methods="Contours were copied to further slices",
)
def copy_marks(
    image: Annotated[Image, Role("grid")],
    marks: Marks,
    which: str = "all",
    *,
    slices: Annotated[int, Between(-100_000, 100_000)] = 1,
    count: Annotated[int, Between(1, 10_000)] = 1,
    by: Annotated[tuple[float, float, float], Unit("mm")] = (0.0, 0.0, 0.0),
    place: Annotated[int | None, Between(1, 1e9), LeftOut("the same")] = None,
) -> MarkEdit:
    """Copy contours to the next slices of the plane they lie in, or to another volume of a series; each copy can be
    changed by itself.

    Parameters
    ----------
    image : image
        Whose slices count.
    which : text
        Numbers of marks, as in 3, 5-9; or "all".
    slices : number
        How many slices further, backwards below 0; 0 for the same slice.
    count : number
        How many copies, each so many slices further than the one before.
    by : mm
        A further shift.
    place : number
        Number of the volume, from 1 on, that the copies hold for.

    Raises
    ------
    Trouble
        When there is no such mark, it lies in no slice, or nothing would differ.
    """
    chosen = [marks[n] for n in numbers_of(which, marks)]
    if not chosen:
        raise Trouble(f"“{marks.name}” has no mark", "draw one first")
    if not slices and not any(by) and place is None:
        raise Trouble("The copies would lie on what they are copies of", "say how many slices further, or shift them")
    made = []
    for n in range(1, count + 1):
        for mark in chosen:
            step = _step(mark, image) * slices * n if slices else np.zeros(3)
            one = replace(mark.shifted(step + np.array(by) * n), id=0)
            made.append(one if place is None else replace(one, place=(place - 1,)))
    told = chosen[0].called if len(chosen) == 1 else f"{len(chosen)} marks"
    return MarkEdit.adding(f"Copy {told} on", marks, made)


def _step(mark: Mark, image: Image) -> np.ndarray:
    """From a slice to the next one of the plane that a mark lies in."""
    space = image.space
    if mark.normal is None:
        normal = np.array((0.0, 0.0, 1.0))
        if len(mark.points) > 2:
            normal = np.linalg.svd(mark.array - mark.array.mean(0))[2][2]
    else:
        normal = np.array(mark.normal)
    axis = int(np.argmax([abs(float(space.across(n) @ normal)) for n in range(3)]))
    if (
        lying_in(normal, space) is None
    ):  # a plane that lies askew: straight on, as far as a pane goes from slice to slice
        return normal / abs(float(space.inverse[axis, :3] @ normal))
    step = space.affine[:3, axis]
    return step if float(step @ normal) >= 0 else -step


@operation(
    "outline",
    "Mirror contours",
    name="mirror-marks",
    keywords="flip opposite side left right symmetric mirror conjugate view",
    called={"which": "Contours", "across": "Across the plane of", "at": "Through"},
    group=GROUP,
    methods="Contours were mirrored across {across}",
)
def mirror_marks(
    image: Annotated[Image, Role("grid")],
    marks: Marks,
    which: str = "all",
    across: Literal["x", "y", "z"] = "x",
    *,
    at: Annotated[float | None, Unit("mm"), LeftOut("the middle of the image")] = None,
    place: Annotated[int | None, Between(1, 1e9), LeftOut("the same")] = None,
) -> MarkEdit:
    """Copy contours to the other side of a plane: of a head, from left to right; of a planar view, to the opposite one.

    Parameters
    ----------
    image : image
        Whose middle counts.
    which : text
        Numbers of marks, as in 3, 5-9; or "all".
    across : "x", "y" or "z"
        Left and right, front and back, or up and down are exchanged.
    at : mm
        Where the plane lies along that axis.
    place : number
        Number of the volume, or the detector, from 1 on, that the copies hold for.

    Raises
    ------
    Trouble
        When there is no such mark.
    """
    chosen = [marks[n] for n in numbers_of(which, marks)]
    if not chosen:
        raise Trouble(f"“{marks.name}” has no mark", "draw one first")
    axis = "xyz".index(across)
    middle = float(image.space.centre[axis]) if at is None else at
    made = []
    for mark in chosen:
        points = mark.array
        points[:, axis] = 2 * middle - points[:, axis]
        normal = None if mark.normal is None else tuple(-v if n == axis else v for n, v in enumerate(mark.normal))
        one = replace(mark.with_points(points), id=0, normal=normal)  # type: ignore[arg-type]
        made.append(one if place is None else replace(one, place=(place - 1,)))
    told = chosen[0].called if len(chosen) == 1 else f"{len(chosen)} marks"
    return MarkEdit.adding(f"Mirror {told}", marks, made)
