"""Whether a closed line is sound: does not cross itself, and encloses something."""

from __future__ import annotations

import re

import numpy as np

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

    outline = mark.outline
    middle = outline.mean(0)
    normal = plane_of(outline, np.inf, mark.called)
    right = np.cross(normal, np.eye(3)[int(np.abs(normal).argmin())])
    right /= np.linalg.norm(right)
    down = np.cross(normal, right)
    scale = max(float(np.ptp(outline, 0).max()), 1e-300)
    ring = np.stack(((outline - middle) @ right, (outline - middle) @ down), 1) / scale
    polygon = shapely.Polygon(ring)
    if polygon.is_valid:
        return None
    told = explain_validity(polygon)
    place = PLACE.search(told)
    if not told.startswith("Self-intersection") or place is None:
        return None
    x, y = float(place.group(1)), float(place.group(2).rstrip("]"))
    return middle + scale * (x * right + y * down)
