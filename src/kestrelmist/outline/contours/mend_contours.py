"""Contours that cross themselves, or reach beyond the image, are mended."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated

import numpy as np

from ...core.errors import Trouble
from ...core.geometry.mark import Mark
from ...core.geometry.marks import MarkEdit, Marks
from ...core.geometry.numbers_of import numbers_of
from ...core.geometry.shape import shape_named
from ...core.geometry.sound import crossing, largest_loop
from ...core.image import Image
from ...core.operation import operation
from ...core.parameter import Role
from ...core.space import Space
from .draw import GROUP

EDGE = 1e-6
"""Of a voxel: how far beyond the outermost voxels' faces still counts as on them."""


@operation(
    "outline",
    "Mend contours",
    name="mend-contours",
    keywords="self-crossing intersect repair fix outside beyond clip cut off",
    called={"which": "Contours"},
    group=GROUP,
    methods="Contours that crossed themselves were mended",
)
def mend_contours(image: Annotated[Image, Role("grid")], marks: Marks, which: str = "all") -> MarkEdit:
    """Mend closed contours: of one that crosses itself the largest loop stays, and what reaches beyond the image is cut
    off at its edge. Rectangles and ellipses stay as they are.

    Parameters
    ----------
    image : image
        Whose edge counts.
    which : text
        Numbers of marks, as in 3, 5-9; or "all".

    Raises
    ------
    Trouble
        When there is no such mark, one lies wholly beyond the image, or nothing is to be mended.
    """
    after: dict[int, Mark] = {}
    for number in numbers_of(which, marks):
        mark = marks[number]
        if not shape_named(mark.shape).closed or mark.shape != "polygon":
            continue
        points = mark.array
        if crossing(mark) is not None:
            points = largest_loop(mark)
        if beyond(points, image.space):
            points = cut_off(points, image.space)
            if len(points) < 3:
                raise Trouble(f"The {mark.called} lies wholly beyond “{image.name}”", "delete it, or move it")
        if not np.array_equal(points, mark.array):
            after[number] = replace(mark, points=tuple(map(tuple, points.tolist())))
    if not after:
        raise Trouble("No contour crosses itself or reaches beyond the image", "nothing is to be mended")
    told = next(iter(after.values())).called if len(after) == 1 else f"{len(after)} contours"
    return MarkEdit.between(f"Mend {told}", marks, after)


def beyond(points: np.ndarray, space: Space) -> bool:
    """Whether some of several places (n, 3) lie beyond the faces of a grid's outermost voxels."""
    at = space.to_voxel(points)
    return bool(((at < -0.5 - EDGE) | (at > np.array(space.shape) - 0.5 + EDGE)).any())


def cut_off(points: np.ndarray, space: Space) -> np.ndarray:
    """The part of a closed line (n, 3) within a grid: one of its six faces after the other cuts.

    I. E. Sutherland and G. W. Hodgman, Reentrant polygon clipping, Commun. ACM 17, 1974.
    """
    at = space.to_voxel(points)
    for axis, size in enumerate(space.shape):
        for sign, limit in ((1.0, -0.5), (-1.0, size - 0.5)):
            if not len(at):
                return at
            inside = sign * (at[:, axis] - limit)
            kept = []
            for a, b, da, db in zip(at, np.roll(at, -1, 0), inside, np.roll(inside, -1)):
                if da >= 0:
                    kept.append(a)
                if (da < 0 < db) or (db < 0 < da):
                    kept.append(a + (b - a) * da / (da - db))
            at = np.array(kept).reshape(-1, 3)
    return space.to_world(at)
