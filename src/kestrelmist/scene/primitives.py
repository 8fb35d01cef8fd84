"""What is drawn over a picture, whoever draws it: lines and areas, words, small pictures, in page units.

A page unit is a pixel of a pane; (0, 0) is the page's upper left corner. Layers and the pieces of a page make these;
painters (`scene.painters`, and the window's own) draw them, and so a pane, a picture and a figure look the same.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Protocol

import numpy as np

from ..core.names import printable

Point = tuple[float, float]
NIGHT, PALE, SOFT, INK, CHIP, LIT = "#0B1013", "#E8EDEE", "#8FA1AA", "#1F2C35", "#E8B68C", "#F0B263"
"""Colours of what stands on a picture, which is dark in every theme."""
BACKING = "#0B101396"
"""Behind words that may come to stand on something bright."""
FIGURES = "figures"
"""The weight of words that are set in figures of one width."""


def contrasting(colour: str) -> str:
    """Dark or pale, whichever stands out from a colour "#RRGGBB"."""
    red, green, blue = (int(colour.lstrip("#")[n : n + 2], 16) for n in (0, 2, 4))
    return INK if 0.299 * red + 0.587 * green + 0.114 * blue > 110 else PALE


@dataclass(frozen=True)
class Stroke:
    """How a line is drawn: "#RRGGBB" or "#RRGGBBAA", page units, and lengths of dashes and gaps in page units."""

    colour: str
    width: float = 1.0
    dashes: tuple[float, ...] = ()


@dataclass(frozen=True)
class Path:
    """A line through points, or an area when `closed`. `crisp` lines lie on whole pixels where a painter has any.
    `breaks` are the points with which further lines of the same kind begin: of an open one that is not filled."""

    points: tuple[Point, ...]
    stroke: Stroke | None = None
    closed: bool = False
    fill: str = ""
    crisp: bool = False
    breaks: tuple[int, ...] = ()

    @property
    def parts(self) -> list[tuple[Point, ...]]:
        """The points of each of its lines."""
        ends = (0, *self.breaks, len(self.points))
        return [self.points[a:b] for a, b in zip(ends, ends[1:])]


@dataclass(frozen=True)
class Oval:
    """An ellipse round a point: its two radii, and the degrees by which it is turned clockwise."""

    centre: Point
    radii: Point
    stroke: Stroke | None = None
    fill: str = ""
    turn: float = 0.0


@dataclass(frozen=True)
class Panel:
    """A rectangle with round corners: left, top, width, height."""

    box: tuple[float, float, float, float]
    fill: str = ""
    radius: float = 0.0
    stroke: Stroke | None = None


@dataclass(frozen=True)
class Words:
    """A line of words.

    Parameters
    ----------
    at : point
    text : str
    size : page units
    colour : str
    weight : "400", "600", "700" or FIGURES
    anchor : two letters
        What of the words lies at the point: "l" left, "m" middle or "r" right; and "a" top, "m" middle or "s" the line
        they stand on.
    shadow : str
        Colour of the same words one unit to the right and below, "" for none.
    """

    at: Point
    text: str
    size: float = 12.0
    colour: str = PALE
    weight: str = "400"
    anchor: str = "mm"
    shadow: str = ""

    def __post_init__(self):
        object.__setattr__(self, "text", printable(self.text))


@dataclass(frozen=True, eq=False)
class Bitmap:
    """A picture of packed colours (height, width) in a box: left, top, width, height."""

    pixels: np.ndarray
    box: tuple[float, float, float, float]


def outlined(at: Point, text: str, size: float, colour: str, anchor: str = "mm", weight: str = "600") -> list[Words]:
    """Words with an edge that contrasts, so that they are read on bright and dark alike."""
    edge, shift = contrasting(colour), max(0.8, size / 16)
    beside = [(a * shift, b * shift) for a in (-1, 0, 1) for b in (-1, 0, 1) if a or b]
    around = [Words((at[0] + a, at[1] + b), text, size, edge, weight, anchor) for a, b in beside]
    return [*around, Words(at, text, size, colour, weight, anchor)]


Primitive = Path | Oval | Panel | Words | Bitmap


@dataclass(frozen=True, eq=False)
class Page:
    """A picture and what stands over it.

    Parameters
    ----------
    ground : uint32 array (height, width) of packed colours
    over : sequence of primitives, the lowest first
    scale : number
        Pixels of the ground a page unit: on a large picture words grow with it.
    millimetres : number
        Size of a pixel of the ground on paper, mm; None for 96 a inch.
    title : str
    facts : pairs of text
        How it was made, by name.
    caption : str
        What may stand below it.
    pixel : (number, unit), optional
        How long a pixel of the ground is in the world.
    """

    ground: np.ndarray
    over: Sequence[Primitive] = field(default=())
    scale: float = 1.0
    millimetres: float | None = None
    title: str = ""
    facts: tuple[tuple[str, str], ...] = ()
    caption: str = ""
    pixel: tuple[float, str] | None = None

    def __post_init__(self):
        object.__setattr__(self, "title", printable(self.title))
        object.__setattr__(self, "caption", printable(self.caption))
        object.__setattr__(self, "facts", tuple((printable(a), printable(b)) for a, b in self.facts))

    @property
    def width(self) -> float:
        """In page units."""
        return self.ground.shape[1] / self.scale

    @property
    def height(self) -> float:
        """In page units."""
        return self.ground.shape[0] / self.scale


class Painter(Protocol):
    """Draws primitives of each kind; what `paint` needs."""

    def path(self, path: Path) -> None: ...
    def oval(self, oval: Oval) -> None: ...
    def panel(self, panel: Panel) -> None: ...
    def words(self, words: Words) -> None: ...
    def bitmap(self, bitmap: Bitmap) -> None: ...


def paint(painter: Painter, primitives: Sequence[Primitive]) -> None:
    """Draw primitives, the lowest first."""
    for one in primitives:
        match one:
            case Path():
                painter.path(one)
            case Oval():
                painter.oval(one)
            case Panel():
                painter.panel(one)
            case Words(shadow=""):
                painter.words(one)
            case Words():
                x, y = one.at
                painter.words(replace(one, at=(x + 1, y + 1), colour=one.shadow, shadow=""))
                painter.words(replace(one, shadow=""))
            case Bitmap():
                painter.bitmap(one)


def shifted(primitives: Sequence[Primitive], right: float, down: float) -> list[Primitive]:
    """Primitives moved over the page, in page units."""
    found: list[Primitive] = []
    for one in primitives:
        match one:
            case Path():
                found.append(replace(one, points=tuple((x + right, y + down) for x, y in one.points)))
            case Oval():
                found.append(replace(one, centre=(one.centre[0] + right, one.centre[1] + down)))
            case Words():
                found.append(replace(one, at=(one.at[0] + right, one.at[1] + down)))
            case Panel() | Bitmap():
                left, top, wide, tall = one.box
                found.append(replace(one, box=(left + right, top + down, wide, tall)))
    return found


def haloed(points: Sequence[Point], stroke: Stroke, closed: bool = False, wider: float = 2.4) -> tuple[Path, Path]:
    """A line on a dark halo, so that it is seen on bright and dark alike."""
    whole = tuple(points)
    return Path(whole, Stroke(NIGHT, stroke.width + wider), closed), Path(whole, stroke, closed)


def rgba(colour: str) -> tuple[int, int, int, int]:
    """Red, green, blue and opacity, 0 to 255, of "#RRGGBB" or "#RRGGBBAA"."""
    digits = colour.lstrip("#")
    red, green, blue, *rest = bytes.fromhex(digits)
    return red, green, blue, rest[0] if rest else 255


def font_file(weight: str) -> str:
    """Name of the font's file in `scene/fonts` for a weight of words."""
    return f"atkinson-hyperlegible-{'mono-400' if weight == FIGURES else f'next-{weight}'}.ttf"
