"""Sections: the values of an image along a line, averaged across a width."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Annotated, Literal

import numpy as np

from ..core.curve import COLOURS, Curve, Dashes
from ..core.errors import Trouble
from ..core.geometry.mark import Mark
from ..core.image import Image
from ..core.operation import operation
from ..core.parameter import Between as Limits
from ..core.parameter import LineEnd, Unit
from ..core.space import Space

MOST, PIECE = 1 << 20, 256
"""Points along a section, and how many of them are read at a time in a picture that is larger than memory."""
AROUND = 8
"""Voxels round places that count for splines between them."""
Width = Annotated[float, Unit("mm"), Limits(0, 1e6)]
Between = Literal["cubic", "linear"]


@dataclass(frozen=True)
class Line:
    """What a section is read along: a straight line between two world positions (three mm each), and the width across
    it, mm. It is drawn and kept as a mark."""

    start: tuple[float, float, float]
    end: tuple[float, float, float]
    width: float = 0.0

    @property
    def length(self) -> float:
        return float(np.linalg.norm(np.subtract(self.end, self.start)))

    @property
    def mark(self) -> Mark:
        """The line as a mark."""
        return Mark("section", (self.start, self.end), across=self.width)

    @classmethod
    def of(cls, mark: Mark) -> Line:
        """The line of a mark."""
        return cls(mark.points[0], mark.points[-1], mark.across)

    @property
    def across(self) -> np.ndarray:
        """The direction of the width: square to the line, in the plane of the two world axes that the line runs along
        most."""
        way = np.subtract(self.end, self.start)
        normal = np.zeros(3)
        normal[thinnest(way)] = 1.0
        across = np.cross(normal, way)
        return across / np.linalg.norm(across)


def thinnest(way: np.ndarray) -> int:
    """The axis along which a line runs least; of several, the last."""
    least = np.abs(way).min()
    return int(np.flatnonzero(np.abs(way) <= least + 1e-12)[-1])


@dataclass(frozen=True)
class Section:
    """What was found along a line: distances from its start (n,) in the unit of the space, and values (n, lines), one
    column for each of the lines side by side that the width holds; NaN outside the image and where there is none."""

    along: np.ndarray
    lines: np.ndarray

    @property
    def values(self) -> np.ndarray:
        """The mean across the width (n,), over lines that have a value there."""
        there = np.isfinite(self.lines)
        with np.errstate(invalid="ignore", divide="ignore"):
            return np.where(there, self.lines, 0).sum(1) / there.sum(1)


def section_of(image: Image, line: Line) -> Section:
    """The section of a volume along a line, in steps of the smallest voxel side, between voxels by linear
    interpolation.

    Raises
    ------
    Trouble
        When the line is a point, or too long for the image, or lies outside it.
    """
    space = image.space
    step = min(s for s, n in zip(space.spacing, space.shape) if n > 1) if max(space.shape) > 1 else min(space.spacing)
    if not line.length > step / 2:
        raise Trouble("This line is shorter than a voxel", "draw it longer")
    count = int(round(line.length / step)) + 1
    if count > MOST:
        raise Trouble(f"This line is {count} voxels long", f"draw one of at most {MOST}")
    share = np.linspace(0, 1, count)
    start, end = np.array(line.start, float), np.array(line.end, float)
    places = start + share[:, None] * (end - start)
    beside = max(1, int(round(line.width / step)) + 1) if line.width > 0 else 1
    offsets = np.linspace(-line.width / 2, line.width / 2, beside) if beside > 1 else np.zeros(1)
    across = offsets[:, None] * line.across
    values = values_at(image, (places[:, None] + across).reshape(-1, 3), PIECE * beside).reshape(count, beside)
    if not np.isfinite(values).any():
        raise Trouble(f"The line meets no value of “{image.name}”", "draw it over the image")
    return Section(share * line.length, values)


def values_at(image: Image, places: np.ndarray, piece: int = PIECE, between: Between = "linear") -> np.ndarray:
    """Values of a volume at world positions (n, 3), between voxels linearly or by cubic splines; NaN outside, and
    beside what has none. Of a picture larger than memory what lies round so many places is read at a time."""
    found = _at if between == "linear" else _by_splines
    if image.part is None or image.in_memory or image.space.shape[2] != 1:
        return found(image.kji, image.space, places)
    return np.concatenate([_in_part(image, places[n : n + piece], found) for n in range(0, len(places), piece)])


def _by_splines(kji: np.ndarray, space: Space, places: np.ndarray) -> np.ndarray:
    """As `_at`, by interpolating cubic splines (M. Unser, IEEE Signal Process. Mag. 16, 1999), which do not widen what
    is narrow; linearly where a voxel near by has no value."""
    from scipy import ndimage

    linear = _at(kji, space, places)
    there = np.flatnonzero(np.isfinite(linear))
    if not there.size:
        return linear
    voxel = space.to_voxel(places[there])
    low = np.maximum(np.floor(voxel.min(0)).astype(int) - AROUND, 0)
    high = np.minimum(np.ceil(voxel.max(0)).astype(int) + AROUND + 1, space.shape)
    box = np.asarray(kji[tuple(slice(a, b) for a, b in zip(low[::-1], high[::-1]))], np.float64)
    if not np.isfinite(box).all():
        return linear
    flat = [n for n in range(3) if box.shape[n] > 1]  # there are no splines across a single slice
    at = np.clip((voxel - low)[:, ::-1].T, 0, np.array(box.shape)[:, None] - 1)[flat]
    values = box.reshape([box.shape[n] for n in flat]) if flat else box.reshape(-1)
    linear[there] = ndimage.map_coordinates(values, at, order=3, mode="mirror") if flat else values[0]
    return linear


def _in_part(image: Image, places: np.ndarray, found: Callable[..., np.ndarray]) -> np.ndarray:
    """Values at world positions (n, 3) of a picture larger than memory: only what lies round them is read."""
    space = image.space
    voxel = space.to_voxel(places)[:, :2]
    low = np.clip(np.floor(voxel.min(0)).astype(int) - AROUND, 0, np.array(space.shape[:2]) - 1)
    high = np.clip(np.ceil(voxel.max(0)).astype(int) + AROUND + 1, low + 1, space.shape[:2])
    assert image.part is not None
    values = np.asarray(image.part((), (int(low[0]), int(high[0]), int(low[1]), int(high[1]))))
    affine = space.affine.copy()
    affine[:3, 3] = space.to_world((*low, 0))
    around = replace(space, shape=(values.shape[0], values.shape[1], 1), affine=affine)
    return found(values.T, around, places)


def _at(kji: np.ndarray, space: Space, places: np.ndarray) -> np.ndarray:
    """Values at world positions (n, 3) by linear interpolation; NaN outside, and beside what has none."""
    voxel = space.to_voxel(places)
    shape = np.array(space.shape)
    inside = ((voxel > -0.5 - 1e-6) & (voxel < shape - 0.5 + 1e-6)).all(1)
    voxel = np.clip(voxel, 0, shape - 1)
    low = np.minimum(voxel.astype(int), np.maximum(shape - 2, 0))
    part = voxel - low
    found = np.zeros(len(places))
    for corner in range(8):
        pick = np.array([corner & 1, corner >> 1 & 1, corner >> 2 & 1])
        weight = np.where(pick, part, 1 - part).prod(1)
        at = np.minimum(low + pick, shape - 1)
        values = kji[at[:, 2], at[:, 1], at[:, 0]].astype(float)
        found += np.where(weight > 0, values, 0.0) * weight
    return np.where(inside, found, np.nan)


@operation(
    "measure",
    "Section along a line",
    name="profile",
    keywords=("profile line cross-section height plot intensity line profile intensity profile plot profile line scan"),
    called={"from_": "From", "stroke": "Thickness", "dashes": "Line"},
    rare="colour stroke dashes",
    group="Lines",
    methods="Values were taken along lines, averaged over a width of {width}",
)
def profile(
    image: Image,
    from_: LineEnd,
    to: LineEnd,
    width: Width = 0.0,
    *,
    name: str = "",
    colour: str = COLOURS[1],
    stroke: Annotated[float, Limits(0.5, 8)] = 1.5,
    dashes: Dashes = "solid",
) -> Curve:
    """The values along a straight line, averaged across a width, as a curve that is kept.

    Values between voxels are interpolated linearly, in steps of the smallest voxel side. The width lies square to the
    line, in the plane that the line was drawn in.

    Parameters
    ----------
    from_, to : place
        World positions of the ends, in mm (in pixels where the image has no scale); x and y will do on a picture.
    width : mm
        Across the line; 0 for the line alone.
    name : text
        Its name; where it was drawn when left out.
    colour : text
        As #RRGGBB.
    stroke : pixels
        How thick it is drawn.
    dashes : text
        Kind of line.

    Raises
    ------
    Trouble
        When the line is shorter than a voxel, or meets no value of the image.
    """
    line = Line(tuple(from_), tuple(to), width)  # type: ignore[arg-type]
    found = section_of(image, line)
    return curve_of(found, image, line, name=name, colour=colour, width=stroke, dashes=dashes)


def curve_of(found: Section, image: Image, line: Line, name: str = "", **style) -> Curve:
    """A section as a curve, with the units of the image."""
    ends = " to ".join(", ".join(f"{v:.4g}" for v in end[:2]) for end in (line.start, line.end))
    of, name = f"section from {ends} in {image.name}", name or f"Section of {image.name}"
    said = {"name": name, "subject": image.subject, "mark": line.mark, "image": image.name}
    return Curve(found.values, found.along, image.space.unit, image.unit, of, **style, **said)  # type: ignore[arg-type]
