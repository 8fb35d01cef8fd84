"""A mark: something drawn, at world positions."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, field, fields, replace
from typing import Any

import numpy as np

from ..errors import Trouble
from ..names import plain_name
from ..sentence import with_article
from .shape import shape_named

Vector = tuple[float, float, float]
LONGEST = 10_000
"""Letters of a text or a note that are kept."""


@dataclass(frozen=True)
class Mark:
    """Something drawn.

    Parameters
    ----------
    shape : str
        One of `geometry.shape.SHAPES`.
    points : tuple of (x, y, z)
        World positions, in the unit of the world.
    id : int
        Its number among the marks it is kept with; 0 before it is kept.
    normal : (x, y, z), optional
        Direction of length 1 across the plane it was drawn in; None when it holds in every plane.
    depth : mm
        How deep it holds along the normal; 0 for the slice it lies in.
    place : tuple of int, optional
        The volume of a series that it is of, counted from 0; every one when left out.
    across : mm
        Width of a section.
    sure : mm
        Standard uncertainty of its points along each axis; 0 where nothing is said of it.
    cls : int
        Its number in a class table; 0 for none.
    name, text : str
        What it is called, and what is written at it.
    colour : str
        "#RRGGBB"; "" for that of its class.
    width, letters : page units
        Of its line, and of what is written at it.
    unit : str
        In which its length or area is told, as "um"; "" for the one that suits.
    digits : int, optional
        Decimals that are told; as many as its uncertainty allows when left out.
    spread : bool
        Whether its uncertainty is told.
    notes : dict
        Whatever else is known of it: names and plain values.

    Raises
    ------
    Trouble
        When nobody knows the shape, or the points are not as many as it has, or are not finite.
    """

    shape: str
    points: tuple[Vector, ...]
    id: int = 0
    normal: Vector | None = None
    depth: float = 0.0
    place: tuple[int, ...] | None = None
    across: float = 0.0
    sure: float = 0.0
    cls: int = 0
    name: str = ""
    text: str = ""
    colour: str = ""
    width: float = 1.8
    letters: float = 12.0
    unit: str = ""
    digits: int | None = None
    spread: bool = True
    notes: dict[str, Any] = field(default_factory=dict, hash=False)

    def __post_init__(self):
        shape_named(self.shape).require_count(len(self.points))
        try:
            points = tuple((float(x), float(y), float(z)) for x, y, z in self.points)
        except (TypeError, ValueError) as error:
            raise Trouble("A point of a mark has three numbers", "give x, y and z") from error
        if not all(math.isfinite(v) for point in points for v in point):
            raise Trouble("A point of a mark is no place", "give numbers")
        if not all(math.isfinite(one) and one >= 0 for one in (self.depth, self.across, self.sure)):
            raise Trouble("Depth, width and uncertainty of a mark are numbers from 0 on", "give such")
        if not (0 < self.width <= 1000 and 0 < self.letters <= 1000):
            raise Trouble("Lines and letters of a mark are 0 to 1000 wide", "give such")
        if self.digits is not None and not (isinstance(self.digits, int) and 0 <= self.digits <= 15):
            raise Trouble("Decimals of a mark are 0 to 15", "give so many")
        object.__setattr__(self, "points", points)
        object.__setattr__(self, "name", plain_name(self.name))
        object.__setattr__(self, "text", str(self.text)[:LONGEST])

    @property
    def array(self) -> np.ndarray:
        """Its points, (n, 3)."""
        return np.array(self.points, float)

    @property
    def called(self) -> str:
        """What it is called in a sentence."""
        title = shape_named(self.shape).title.lower()
        return f"{title} “{self.name}”" if self.name else f"{title} {self.id}" if self.id else with_article(title)

    @property
    def outline(self) -> np.ndarray:
        """The line that is drawn, world positions (m, 3)."""
        return shape_named(self.shape).outline(self.array)

    @property
    def middle(self) -> np.ndarray:
        """Where one goes to see it."""
        found = self.array
        return (found.min(0) + found.max(0)) / 2

    @property
    def length(self) -> float:
        """Of its line from the first point to the last, mm."""
        return float(np.linalg.norm(np.diff(self.array, axis=0), axis=1).sum())

    def with_points(self, points) -> Mark:
        """The mark at other places."""
        return replace(self, points=tuple(map(tuple, np.asarray(points, float).tolist())))

    def shifted(self, by) -> Mark:
        """The mark moved by a vector, mm."""
        return self.with_points(self.array + np.asarray(by, float))

    def moved(self, to: Callable[[np.ndarray], np.ndarray]) -> Mark:
        """The mark where a mapping brings its points (a function of (n, 3) world positions); its normal turns along,
        and a section's width, the depth and how sure its points are grow with it."""
        points = self.array
        made = self.with_points(to(points))
        if self.normal is None:
            if not (self.across or self.sure):
                return made
            grown = made.length / self.length if self.length > 0 else _grown(to, points.mean(0))
            return replace(made, across=self.across * grown, sure=self.sure * grown)
        middle, normal = points.mean(0), np.array(self.normal)
        beside = np.cross(normal, np.eye(3)[int(np.abs(normal).argmin())])
        beside /= np.linalg.norm(beside)
        step = max(float(np.ptp(points, 0).max()), 1.0) * 1e-3
        ends = to(np.stack((middle, middle + step * beside, middle + step * np.cross(normal, beside))))
        one, other = ends[1] - ends[0], ends[2] - ends[0]
        across = np.cross(one, other)
        length = float(np.linalg.norm(across))
        if not length > 0 or not math.isfinite(length):
            return replace(made, normal=None)
        grown = math.sqrt(length) / step
        turned = across / length
        if turned @ normal < 0 and np.abs(turned @ normal) > 0.999:  # the same plane, seen from its other side
            turned = -turned
        wide, depth, sure = (size * grown for size in (self.across, self.depth, self.sure))
        return replace(made, normal=tuple(turned.tolist()), across=wide, depth=depth, sure=sure)

    def as_dict(self) -> dict[str, Any]:
        """As plain values; what is as at first is left out."""
        found = {one.name: getattr(self, one.name) for one in fields(self)}
        usual = {one.name: one.default for one in fields(self)}
        kept = {n: v for n, v in found.items() if n in ("shape", "points", "id") or (v != usual[n] and v != {})}
        return {n: _plain(v) for n, v in kept.items()}

    @classmethod
    def from_dict(cls, facts: dict[str, Any]) -> Mark:
        """Read back from `as_dict`; what is unknown is passed over. Raises Trouble when it is no mark."""
        if not isinstance(facts, dict) or "shape" not in facts or not isinstance(facts.get("points"), list):
            raise Trouble("A mark has a shape and points", "give both")
        known = {one.name for one in fields(cls)}
        given = {name: value for name, value in facts.items() if name in known}
        given["points"] = tuple(map(tuple, given["points"]))
        for name in ("normal", "place"):
            if given.get(name) is not None:
                given[name] = tuple(given[name])
        try:
            return cls(**given)
        except TypeError as error:
            raise Trouble("A mark has numbers where numbers belong", "see that they are there") from error


def _grown(to: Callable[[np.ndarray], np.ndarray], at: np.ndarray) -> float:
    """How many times as long a mapping makes what is near a place, in the middle of three directions."""
    step = 1e-3 * max(float(np.abs(at).max()), 1.0)
    ends = to(np.vstack((at, at + step * np.eye(3))))
    grown = float(np.median(np.linalg.norm(ends[1:] - ends[0], axis=1))) / step
    return grown if math.isfinite(grown) else 1.0


def _plain(value: Any) -> Any:
    return [_plain(v) for v in value] if isinstance(value, tuple) else value
