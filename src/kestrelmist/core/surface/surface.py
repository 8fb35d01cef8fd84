"""Surfaces in a world: closed or open triangles with a name and a colour, one or several together."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np

from ..errors import Trouble
from ..names import plain_name
from ..world import SCANNER, World
from .smoothing import area, volume

COLOUR = "#C9BFA8"
"""Of a surface that comes without one."""


@dataclass(frozen=True, eq=False)
class Surface:
    """One surface.

    Parameters
    ----------
    corners : float64 array (n, 3)
        World positions.
    triangles : int32 array (m, 3)
        Corners of each, anticlockwise as seen from outside.
    name : str
    colour : str
        "#RRGGBB".
    """

    corners: np.ndarray
    triangles: np.ndarray
    name: str = "Surface"
    colour: str = COLOUR

    def __post_init__(self):
        object.__setattr__(self, "name", plain_name(self.name) or "Surface")
        object.__setattr__(self, "corners", np.ascontiguousarray(self.corners, np.float64).reshape(-1, 3))
        object.__setattr__(self, "triangles", np.ascontiguousarray(self.triangles, np.int32).reshape(-1, 3))

    @cached_property
    def volume(self) -> float:
        """What it encloses; of an open surface no number that means something."""
        return volume(self.corners, self.triangles)

    @cached_property
    def area(self) -> float:
        """Of all its triangles."""
        return area(self.corners, self.triangles)

    @cached_property
    def open_edges(self) -> int:
        """Sides of triangles along which no other one lies: none of a closed surface."""
        ends = self.triangles[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2).astype(np.int64)
        turned = ends[:, 0] > ends[:, 1]
        low, high = ends.min(1), ends.max(1)
        sides, at = np.unique(low * len(self.corners) + high, return_inverse=True)
        balance = np.bincount(at, np.where(turned, 1, -1), len(sides))
        return int(np.count_nonzero(balance))


@dataclass(frozen=True, eq=False)
class Surfaces:
    """Surfaces that belong together, in one world.

    Parameters
    ----------
    parts : tuple of Surface
    name, subject : str
    unit : "mm" or "px"
        Of positions.
    world : World

    Raises
    ------
    Trouble
        When there are none, or a position is no number.
    """

    parts: tuple[Surface, ...]
    name: str = "Surface"
    subject: str = ""
    unit: str = "mm"
    world: World = field(default=SCANNER)

    def __post_init__(self):
        if not any(len(one.triangles) for one in self.parts):
            raise Trouble(f"“{self.name}” has no triangles", "choose a surface that has some")
        for one in self.parts:
            if not np.isfinite(one.corners).all():
                raise Trouble(f"“{one.name}” has corners that are nowhere", "make the surface anew")
            if len(one.triangles) and not 0 <= one.triangles.min() <= one.triangles.max() < len(one.corners):
                raise Trouble(f"“{one.name}” has triangles without corners", "make the surface anew")

    def named(self, name: str, subject: str = "") -> Surfaces:
        """The same under another name."""
        return replace(self, name=name, subject=subject or self.subject)

    def carried(self, matrix: np.ndarray, world: World | None = None) -> Surfaces:
        """The same with all positions led through an affine transform (4, 4); one that mirrors turns triangles too."""
        turned = np.linalg.det(matrix[:3, :3]) < 0

        def moved(one: Surface) -> Surface:
            corners = one.corners @ matrix[:3, :3].T + matrix[:3, 3]
            return replace(one, corners=corners, triangles=one.triangles[:, ::-1] if turned else one.triangles)

        return replace(self, parts=tuple(moved(one) for one in self.parts), world=world or self.world)

    @property
    def triangles(self) -> int:
        """Of all parts."""
        return sum(len(one.triangles) for one in self.parts)

    @property
    def ends(self) -> tuple[np.ndarray, np.ndarray]:
        """Lowest and highest position, (3,) each."""
        there = [one.corners for one in self.parts if len(one.corners)]
        return np.min([c.min(0) for c in there], 0), np.max([c.max(0) for c in there], 0)

    def content_hash(self) -> str:
        """SHA-256 of everything but the name."""
        digest = hashlib.sha256(repr((self.unit, self.world.as_dict())).encode())
        for one in self.parts:
            digest.update(f"{one.name} {one.colour}".encode())
            digest.update(one.corners.tobytes() + one.triangles.tobytes())
        return digest.hexdigest()
