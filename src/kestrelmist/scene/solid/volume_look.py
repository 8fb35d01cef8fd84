"""How a volume looks in a solid scene: a curve of colour and opacity over its values, light, and what its rays show."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any, Literal

import numpy as np

from ..primitives import rgba
from .rays import LEVELS

Way = Literal["shaded", "highest", "lowest", "mean"]
WAYS: tuple[Way, ...] = ("shaded", "highest", "lowest", "mean")
Point = tuple[float, str, float]
"""A value, the colour "#RRGGBB" that it has, and its opacity, 0 to 1."""
MOST = 64
"""Points of a curve."""


@dataclass(frozen=True)
class VolumeLook:
    """A look.

    Parameters
    ----------
    points : tuple of (value, colour, opacity)
        In order of their values; between them colours and opacities are mixed, beyond the ends they stay. The opacity
        is that of the side of a voxel.
    way : "shaded", "highest", "lowest" or "mean"
        Whether rays show what they meet, or one value of all that they pass.
    lit : bool
        Whether light falls on it.
    glow : number
        The share of light that does not depend on where it falls, 0 to 1.
    edges : number
        How much only places are seen where values change, 0 to 1.
    thick : mm
        The length over which opacities count; the side of a voxel when 0.
    name : str
        Of the ready look that it was, "" for one of a person's own.
    """

    points: tuple[Point, ...] = ((0.0, "#000000", 0.0), (1.0, "#FFFFFF", 1.0))
    way: Way = "shaded"
    lit: bool = True
    glow: float = 0.35
    edges: float = 0.0
    thick: float = 0.0
    name: str = ""

    def __post_init__(self):
        points = [p for p in self.points if _sound(p)][:MOST]
        points = sorted(points, key=lambda p: p[0]) or list(type(self).points)
        object.__setattr__(
            self, "points", tuple((float(v), str(c), min(1.0, max(0.0, float(o)))) for v, c, o in points)
        )
        if self.way not in WAYS:
            object.__setattr__(self, "way", "shaded")

    def length(self, step: float) -> float:
        """The length over which opacities count, mm, of a volume with such steps."""
        return self.thick if self.thick > 0 else step

    # editing

    def with_point(self, value: float, colour: str, opacity: float) -> VolumeLook:
        """With one more point."""
        if len(self.points) >= MOST:
            return self
        return replace(self, points=(*self.points, (value, colour, opacity)), name="")

    def moved(self, n: int, value: float, opacity: float) -> VolumeLook:
        """With a point elsewhere, between its neighbours."""
        low = self.points[n - 1][0] if n > 0 else -np.inf
        high = self.points[n + 1][0] if n + 1 < len(self.points) else np.inf
        points = list(self.points)
        points[n] = (float(min(max(value, low), high)), points[n][1], opacity)
        return replace(self, points=tuple(points), name="")

    def coloured(self, n: int, colour: str) -> VolumeLook:
        """With another colour of a point."""
        points = list(self.points)
        points[n] = (points[n][0], colour, points[n][2])
        return replace(self, points=tuple(points), name="")

    def without(self, n: int) -> VolumeLook:
        """Without a point; two stay."""
        if len(self.points) <= 2:
            return self
        return replace(self, points=tuple(p for m, p in enumerate(self.points) if m != n), name="")

    def at(self, value: float) -> tuple[str, float]:
        """Colour and opacity of a value."""
        red, green, blue, opacity = _mixed(self.points, np.array([value]))[0]
        return f"#{round(255 * red):02X}{round(255 * green):02X}{round(255 * blue):02X}", float(opacity)


def _sound(point: Any) -> bool:
    try:
        value, colour, opacity = point
        rgba(str(colour))
        return bool(np.isfinite(value) and np.isfinite(opacity))
    except (TypeError, ValueError):
        return False


def _mixed(points: tuple[Point, ...], values: np.ndarray) -> np.ndarray:
    """Red, green, blue (0 to 1) and opacity of values, float64 (n, 4)."""
    at = [value for value, _, _ in points]
    parts = np.array([[*(v / 255 for v in rgba(colour)[:3]), opacity] for _, colour, opacity in points])
    return np.stack([np.interp(values, at, parts[:, n]) for n in range(4)], 1)


def table_of(look: VolumeLook, low: float, high: float) -> np.ndarray:
    """Colour and opacity of each level of a volume whose levels 1 to LEVELS − 1 are values from `low` to `high`,
    float32 (LEVELS, 4); level 0 is clear."""
    values = low + (np.arange(LEVELS) - 1) * (high - low) / (LEVELS - 2)
    table = _mixed(look.points, values).astype(np.float32)
    table[0] = 0
    return table
