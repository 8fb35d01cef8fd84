"""Whether a closed line is sound: does not cross itself, and encloses something."""

from __future__ import annotations

import re

import numpy as np

from ..errors import Trouble
from .filled import plane_of
from .mark import Mark
from .shape import shape_named

PLACE = re.compile(r"\[(\S+) (\S+)")


def crossing(mark: Mark) -> np.ndarray | None:
    """A world position where the outline of a closed mark crosses itself; None when it does not, or is not closed."""
    if not shape_named(mark.shape).closed or len(mark.points) < 4 or mark.shape != "polygon":
        return None
    import shapely
    from shapely.validation import explain_validity

    middle, ways, ring = _flat(mark)
    polygon = shapely.Polygon(ring)
    if polygon.is_valid:
        return None
    told = explain_validity(polygon)
    place = PLACE.search(told)
    if not told.startswith("Self-intersection") or place is None:
        return None
    return middle + np.array((float(place.group(1)), float(place.group(2).rstrip("]")))) @ ways


def largest_loop(mark: Mark) -> np.ndarray:
    """The largest of the loops that a line which crosses itself makes: places (n, 3), the last not the first again.

    Raises Trouble when it encloses nothing.
    """
    import shapely

    middle, ways, ring = _flat(mark)
    loops = shapely.polygonize([shapely.unary_union(shapely.LineString(np.vstack((ring, ring[:1]))))])
    if not len(loops.geoms):
        raise Trouble(f"The {mark.called} encloses nothing", "draw it again, or delete it")
    largest = max(loops.geoms, key=lambda loop: loop.area)
    return middle + np.asarray(largest.exterior.coords)[:-1] @ ways


def _flat(mark: Mark) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """The outline of a mark in its plane: its middle, two vectors (2, 3) as long as it is large, and the line in them
    (n, 2)."""
    outline = mark.outline
    middle = outline.mean(0)
    normal = plane_of(outline, np.inf, mark.called)
    right = np.cross(normal, np.eye(3)[int(np.abs(normal).argmin())])
    right /= np.linalg.norm(right)
    ways = np.stack((right, np.cross(normal, right)))
    scale = max(float(np.ptp(outline, 0).max()), 1e-300)
    return middle, scale * ways, (outline - middle) @ ways.T / scale
