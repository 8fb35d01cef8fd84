"""What a shape of mark is, and the list of shapes. Each is one file of the package `shapes`, which registers itself."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from ..errors import Trouble
from ..registry import Registry
from ..sentence import with_article

Points = np.ndarray
"""World positions, (n, 3) mm."""


@dataclass(frozen=True)
class Plane:
    """Directions of right and down in the plane that somebody draws in, of length 1 and at right angles."""

    right: np.ndarray
    down: np.ndarray

    @property
    def normal(self) -> np.ndarray:
        """Direction across it."""
        return np.cross(self.right, self.down)


def _as_they_are(points: Points) -> Points:
    return points


def _pulled(points: Points, handle: int, to: np.ndarray, plane: Plane, even: bool) -> Points:
    moved = points.copy()
    moved[handle] = to
    return moved


def _no_sizes(points: Points) -> dict[str, float]:
    return {}


def _not_sized(points: Points, name: str, value: float) -> Points:
    raise KeyError(name)


@dataclass(frozen=True)
class Shape:
    """A shape of mark.

    Parameters
    ----------
    name, title : str
        Under which it is kept, and what a person calls it.
    least, most : int
        How many points it has; `most` is 0 for any number.
    by : "click", "drag", "clicks" or "trace"
        How it is drawn: by one click, from press to release, by a click a point, or along a drag.
    begun : callable
        `begun(start, end, plane, even)`: its points when it is drawn by a drag; `even` says that it is to be as long as
        wide, or straight.
    outline : callable
        `outline(points)`: the line that is drawn, world positions (m, 3).
    closed : bool
        Whether the outline is closed, and the mark hit inside.
    ends : "ticks", "arrow" or ""
        What stands at the ends of an open line.
    bar : bool
        Whether it is a thick bar that says how long it is, and no line.
    cut : callable, optional
        Of one that fills a room, so that every slice through it shows it: `cut(points, centre, normal)`, the closed
        line in which a plane meets it, (m, 3).
    handles : callable
        `handles(points)`: where it is taken hold of, (h, 3).
    pulled : callable
        `pulled(points, handle, to, plane, even)`: its points once a handle was dragged somewhere.
    sizes : callable
        `sizes(points)`: what can be typed of it, by name, in the unit of the world.
    sized : callable
        `sized(points, name, value)`: its points with one of these changed; the middle, or the first point, stays.
    measured : callable, optional
        `measured(points)`: what is measured of it, by names of `amounts.DIMENSIONS`; points are plain numbers, or
        numbers that know how sure they are.
    apart : tuple of int
        Points that belong to another line than the one before: what leads to them is only a link.
    filled : bool
        Whether its inside is tinted.
    icon : str
        Of its tool; "" when it has none.
    order : int
        Its place among the tools.
    more : str
        Words to find it by.
    hint : str
        How it is drawn, for its tool.
    """

    name: str
    title: str
    least: int
    most: int
    by: str
    begun: Callable[[np.ndarray, np.ndarray, Plane, bool], Points]
    outline: Callable[[Points], Points] = _as_they_are
    closed: bool = False
    ends: str = ""
    bar: bool = False
    cut: Callable[[Points, np.ndarray, np.ndarray], Points] | None = None
    handles: Callable[[Points], Points] = _as_they_are
    pulled: Callable[[Points, int, np.ndarray, Plane, bool], Points] = _pulled
    sizes: Callable[[Points], dict[str, float]] = _no_sizes
    sized: Callable[[Points, str, float], Points] = _not_sized
    measured: Callable[[Points], dict[str, Any]] | None = None
    apart: tuple[int, ...] = ()
    filled: bool = False
    icon: str = ""
    order: int = 50
    more: str = ""
    hint: str = ""

    def require_count(self, count: int) -> None:
        """Raises Trouble when so many points are not a mark of this shape."""
        if count < self.least or (self.most and count > self.most):
            wanted = f"{self.least}" if self.least == self.most else f"{self.least} or more"
            if self.most and self.least != self.most:
                wanted = f"{self.least} to {self.most}"
            what = with_article(self.title.lower())
            raise Trouble(f"{what[0].upper()}{what[1:]} has {wanted} points, and this one has {count}", "give as many")


SHAPES: Registry[Shape] = Registry("shape", f"{__package__}.shapes", order=lambda s: (s.order, s.title))


def register(shape: Shape) -> Shape:
    """Make a shape known."""
    return SHAPES.add(shape.name, shape)


def shape_named(name: str) -> Shape:
    """The shape of that name; raises Trouble when nobody knows it."""
    return SHAPES.named(name)


def straight(start: np.ndarray, end: np.ndarray, plane: Plane) -> np.ndarray:
    """The end of a line that runs straight across or down a plane, or half-way between the two."""
    moved = end - start
    ways = (plane.right, plane.down, (plane.right + plane.down) / np.sqrt(2), (plane.right - plane.down) / np.sqrt(2))
    return start + max(((moved @ way) * way for way in ways), key=lambda v: float(v @ v))
