"""Marks as layers: lines on a dark halo, in the colour of the mark or of its class."""

from __future__ import annotations

from functools import lru_cache
from typing import Protocol

import numpy as np

from ...core.digits import plain
from ...core.geometry.hits import NEAR, Slice, all_in_slice, in_slice, seen
from ...core.geometry.mark import Mark
from ...core.geometry.marks import Marks
from ...core.geometry.measured import Measured, is_fine, measured
from ...core.geometry.shape import shape_named
from ...core.quantity import pretty_unit, suited_unit
from ...core.scale import Scale
from ..layer import MarkLook
from ..layer_type import Drawn, LayerType, register
from ..pieces import at_pixel
from ..primitives import (
    FIGURES,
    INK,
    NIGHT,
    Oval,
    Panel,
    Path,
    Point,
    Primitive,
    Stroke,
    Words,
    contrasting,
    haloed,
    outlined,
)
from ..view import View

POINT = 4.0
"""Radius of a point, page units."""
TICK = 5.0
"""Half the length of the tick across an end of a line."""
HANDLE, SMALL, FEW = 4.5, 1.8, 16
"""Radius of a handle; the same of a mark with more corners than FEW."""
LETTER = 6.6
"""About how wide a letter of a name is."""
CHOSEN = "#A44E28"
FIGURE, CHIP_HIGH = 7.4, 18.0
"""How wide a figure of a chip is, and how high the chip."""
LIGHT, UNSURE, TINT = "#F4F6F5E8", "#6B7B85", "46"
"""Of a chip and its uncertain digits; and how much of its colour a filled mark lays over the picture."""
BAR, BAR_LETTERS, EDGE = 2.6, 1.25, 1.2
"""How many times as thick as lines a scale bar is, and its letters as those of other marks; its edge, page units."""
FIRST = ("angle", "length", "diameter", "area", "volume")
"""What a chip tells of a mark: the first of these that is measured of it."""
Box = tuple[float, float, float, float]
MANY = 120
"""Marks in view from which on no chips are drawn: they would hide one another."""


class Sheet(Protocol):
    """What marks are drawn on: a view, or a slice of an image as a page of its own."""

    @property
    def centre(self) -> tuple[float, float, float]:
        """World position of its middle."""
        ...

    @property
    def normal(self) -> np.ndarray:
        """Direction across it."""
        ...

    @property
    def width(self) -> float:
        """Page units."""
        ...

    @property
    def height(self) -> float:
        """Page units."""
        ...

    def to_page(self, world) -> np.ndarray:
        """Page positions of world positions."""
        ...


def slice_of(view: Sheet) -> Slice:
    """The plane that a view shows."""
    return Slice(np.asarray(view.centre, float), view.normal / np.linalg.norm(view.normal))


def in_view(view: View, marks: Marks, look: MarkLook) -> list[Mark]:
    """The marks that a view shows, in the order they were drawn."""
    normal = view.normal / np.linalg.norm(view.normal)
    thickness = max(look.thickness, view.pixel * 1e-6)
    reach = marks.deepest + thickness
    corners = [view.to_world(x, y) for x in (-0.5, view.width - 0.5) for y in (-0.5, view.height - 0.5)]
    flat = np.sqrt(np.clip(1 - normal**2, 0, 1))  # how far each axis runs along the picture
    deep = np.abs(normal) * reach + flat * view.pixel * (POINT + HANDLE)
    low, high = np.min(corners, 0) - deep, np.max(corners, 0) + deep
    keys, ends = marks.bounds
    shown = ((ends[:, 1] >= low) & (ends[:, 0] <= high)).all(1)
    shown &= all_in_slice(marks, np.asarray(view.centre, float), normal, thickness)
    found = (marks.marks[int(key)] for key in keys[shown])
    return [
        mark
        for mark in found
        if mark.id not in look.without and (mark.place is None or not look.place or mark.place == look.place)
    ]


def under(view: View, marks: Marks, look: MarkLook, world) -> list[Mark]:
    """The marks of a view that may lie under a world position: those that reach near it."""
    reach = NEAR * view.pixel + max(marks.deepest, look.thickness) + POINT * view.pixel
    at = np.asarray(world, float)
    return [
        mark
        for mark in marks.within(at - reach, at + reach)
        if mark.id not in look.without
        and (mark.place is None or not look.place or mark.place == look.place)
        and in_slice(mark, np.asarray(view.centre, float), slice_of(view).normal, look.thickness)
    ]


def drawn_mark(view: Sheet, mark: Mark, colour: str, look: MarkLook, taken: list[Box] | None = None) -> list[Primitive]:
    """One mark: its line, small ticks across the ends of what is open, its name beside it, and in a chip beside its
    middle what it measures, where no chip stands yet: `taken` are the boxes of those that do, and gets another."""
    line, closed = seen(mark, slice_of(view))
    points: list[Point] = [(x, y) for x, y in view.to_page(line).tolist()]
    stroke = Stroke(colour, mark.width)
    found: list[Primitive] = []
    if len(points) == 1 and not mark.text:
        found += [Oval(points[0], (POINT, POINT), Stroke(NIGHT, 3.6)), Oval(points[0], (POINT, POINT), stroke)]
        found.append(Oval(points[0], (1.0, 1.0), fill=colour))
    elif len(points) > 1:
        shape = shape_named(mark.shape)
        if shape.bar:
            return bar(mark, points, colour, look)
        if shape.filled:
            found.append(Path(tuple(points), None, True, f"{colour}{TINT}"))
        for part in _parts(points, shape.apart):
            found += haloed(part, stroke, closed)
        if shape.apart and len(points) == len(mark.points):
            found += [Path((points[n - 1], points[n]), Stroke(f"{colour}A0", 1.0, (2, 4))) for n in shape.apart]
        found += _ends(mark, points, stroke)
        if look.measured and look.scale:
            found += chip(view, points, closed, told(mark, look.scale, look.placed),
                          [] if taken is None else taken, mark.letters)  # fmt: skip
    said = mark.text or (mark.name if look.named else "")
    if said:
        at, anchor = _beside(view, points if not mark.text else points[:1], said, mark.letters)
        found += outlined(at, said, mark.letters, colour, anchor)
    return found


def bar(mark: Mark, points: list[Point], colour: str, look: MarkLook) -> list[Primitive]:
    """A scale bar: thick, with an edge that contrasts, and over it how long it is, or the words that it was given."""
    thick = BAR * mark.width
    (x, y), (a, b) = points[0], points[-1]
    unit = _scale(look.scale).unit if look.scale else "mm"
    said = mark.text or suited_words(mark, unit, is_fine(look.placed))
    edge, length = contrasting(colour), max(float(np.hypot(a - x, b - y)), 1e-9)
    along = np.array((a - x, b - y)) / length
    across, ends = np.array((-along[1], along[0])), np.array(((x, y), (a, b)))
    found: list[Primitive] = []
    for shade, more in ((edge, EDGE), (colour, 0.0)):  # ends as long as it says, whatever its edge
        half, out = (thick / 2 + more) * across, more * along
        corners = (ends[0] - out - half, ends[1] + out - half, ends[1] + out + half, ends[0] - out + half)
        found.append(Path(tuple(map(_point, corners)), None, True, shade))
    at = (x + a) / 2, min(y, b) - thick / 2 - 4
    return [*found, *outlined(at, said, BAR_LETTERS * mark.letters, colour, "ms")]


def suited_words(mark: Mark, unit: str, fine: bool = False) -> str:
    """How long a scale bar is, in the unit that its mark says, else in the one that suits it and the image."""
    made = Measured("length", mark.length, unit).told(mark)
    if not mark.unit:
        suits, factor = ("um", 1e3) if fine and unit == "mm" and mark.length < 1 else suited_unit(mark.length, unit)
        made = Measured("length", mark.length * factor, suits)
    number = plain(float(f"{made.value:.6g}")) if mark.digits is None else f"{made.value:.{mark.digits}f}"
    return f"{number} {pretty_unit(made.unit)}"


def _parts(points: list[Point], apart: tuple[int, ...]) -> list[list[Point]]:
    """The lines of which a mark is made."""
    ends = [0, *(n for n in apart if n < len(points)), len(points)]
    return [points[a:b] for a, b in zip(ends, ends[1:])]


@lru_cache(maxsize=20_000)
def told(mark: Mark, scale: str, placed: float) -> tuple[str, str, str]:
    """What a mark measures first of all, as `Measured.parts` tells it; empty where it measures nothing."""
    found = {one.name: one for one in measured(mark, _scale(scale), placed)}
    name = next((name for name in FIRST if name in found), None)
    if name is None:
        return "", "", ""
    return found[name].told(mark, is_fine(placed)).parts_of(mark.digits, mark.spread)


@lru_cache(maxsize=64)
def _scale(text: str) -> Scale:
    return Scale.from_fact(text) or Scale()


def chip(
    view: Sheet, points: list[Point], closed: bool, parts: tuple[str, str, str], taken: list[Box], letters: float = 12.0
) -> list[Primitive]:
    """A number in a small light chip: certain digits dark, uncertain ones soft. It stands beside the middle of an open
    line, or below a closed one, and elsewhere along it where another chip stands already."""
    grown = letters / 12
    figure, high = FIGURE * grown, CHIP_HIGH * grown
    certain, unsure, unit = parts
    if not (certain or unsure):
        return []
    unit = unit if unit == "°" or not unit else f" {unit}"
    wide = figure * len(certain + unsure + unit) + 10
    places = [
        (min(max(x, 2), max(2, view.width - wide - 2)), min(max(y, 2), max(2, view.height - high - 2)))
        for x, y in _chip_places(points, closed, wide, high)
    ]
    x, y = next((place for place in places if not _meets(place, wide, high, taken)), places[0])
    taken.append((x, y, wide, high))
    found: list[Primitive] = [Panel((x, y, wide, high), LIGHT, 4.0)]
    at = x + 5
    for text, colour in ((certain, INK), (unsure, UNSURE), (unit, INK)):
        if text:
            found.append(Words((at, y + high / 2), text, letters, colour, FIGURES, "lm"))
            at += figure * len(text)
    return found


def _meets(place: Point, wide: float, high: float, taken: list[Box]) -> bool:
    x, y = place
    return any(x < a + c and a < x + wide and y < b + d and b < y + high for a, b, c, d in taken)


def _chip_places(points: list[Point], closed: bool, wide: float, high: float) -> list[Point]:
    """Left upper corners that a chip may have, the best one first."""
    line = np.array(points)
    if closed:
        x, low, top = float(line[:, 0].mean() - wide / 2), float(line[:, 1].max()), float(line[:, 1].min())
        beside = float(line[:, 0].max()) + 8, float(line[:, 1].mean()) - high / 2
        return [(x, low + 8), (x, top - high - 8), beside]
    along = np.concatenate(([0.0], np.cumsum(np.hypot(*np.diff(line, axis=0).T))))
    places = []
    for share in (0.5, 0.25, 0.75):
        at = share * along[-1]
        n = min(int(np.searchsorted(along, at, "right")), len(line) - 1)
        dx, dy = line[n] - line[n - 1]
        x, y = (float(np.interp(at, along, line[:, axis])) for axis in (0, 1))
        if abs(dx) > 2 * abs(dy):  # below a line that lies, or above it; right of one that stands, or left
            places += [(x - wide / 2, y + 9), (x - wide / 2, y - high - 9)]
        else:
            down = dx * dy > 0
            places.append((x + 10, y - high - 2 if down else y + 2))
            places.append((x - 10 - wide, y + 2 if down else y - high - 2))
    return places


def _beside(view: Sheet, points: list[Point], said: str, letters: float) -> tuple[Point, str]:
    """Where words stand beside a mark, and which end of them is there: on its right; on its left where there is no
    room; at the edge of the picture where there is none at all."""
    wide = LETTER * letters / 12 * len(said)
    x, y = max(points, key=lambda p: p[0])
    if x + 8 + wide <= view.width:
        return (x + 8, y - 6), "ls"
    left, beside = min(points, key=lambda p: p[0])
    return ((left - 8, beside - 6), "rs") if left - 8 - wide >= 0 else ((view.width - 4.0, y - 6), "rs")


def _ends(mark: Mark, points: list, stroke: Stroke) -> list[Primitive]:
    """What stands at the ends: ticks, the head of an arrow, the width of a section."""
    ends = shape_named(mark.shape).ends
    if not ends:
        return []
    found: list[Primitive] = []
    for end, beside in ((0, 1), (-1, -2)):
        at, way = np.array(points[end]), np.subtract(points[beside], points[end])
        length = float(np.hypot(*way))
        if not length > 0:
            continue
        along, across = way / length, np.array((-way[1], way[0])) / length
        if ends == "arrow":
            if end == -1:
                head = (at + along * 11 + across * 5, at, at + along * 11 - across * 5)
                found += haloed([_point(p) for p in head], stroke)
            continue
        found += haloed([_point(at + across * TICK), _point(at - across * TICK)], stroke)
    return found


def _point(at: np.ndarray) -> Point:
    return float(at[0]), float(at[1])


def handles(view: View, mark: Mark) -> list[Primitive]:
    """Where a chosen mark is taken hold of; of a line of many corners the handles are small, so that it is seen."""
    places = shape_named(mark.shape).handles(mark.array)
    size = HANDLE if len(places) <= FEW else SMALL
    return [Oval(at_pixel(view, world), (size, size), Stroke(NIGHT, 0.8), CHOSEN) for world in places]


def _first(marks: Marks, over: bool) -> tuple[MarkLook, float]:
    return MarkLook(), 1.0


def _many(view: View, marks: list[Mark], look: MarkLook, colours: dict[int, str]) -> list[Primitive]:
    """So many that words and chips would hide one another: their lines alone, those of one look in one."""
    looks: dict[tuple[str, float], list[np.ndarray]] = {}
    slice = slice_of(view)
    for mark in marks:
        line, closed = seen(mark, slice)
        key = mark.colour or colours.get(mark.cls, look.colour), mark.width
        looks.setdefault(key, []).append(np.vstack((line, line[:1])) if closed else line)
    found: list[Primitive] = []
    for (colour, width), lines in looks.items():
        sizes = np.array([len(line) for line in lines])
        page = view.to_page(np.concatenate(lines))
        starts = np.concatenate(([0], np.cumsum(sizes)))
        alone = starts[:-1][sizes == 1]
        if len(alone):  # a point is a small square on its corner
            corners = page[alone][:, None] + POINT * np.array([(0, -1), (1, 0), (0, 1), (-1, 0), (0, -1)])
            whole = np.delete(page, alone, 0), corners.reshape(-1, 2)
            page = np.concatenate(whole)
            sizes = np.concatenate((sizes[sizes > 1], np.full(len(alone), 5)))
        breaks = tuple(np.cumsum(sizes)[:-1].tolist())
        points = tuple(map(tuple, page.tolist()))
        for stroke in (Stroke(NIGHT, width + 2.4), Stroke(colour, width)):
            found.append(Path(points, stroke, breaks=breaks))
    return found


def _primitives(view: View, layer: Drawn) -> list[Primitive]:
    look, found = layer.look, []
    colours = dict(look.colours)
    seen = in_view(view, layer.thing, look)
    if len(seen) > MANY:
        return _many(view, seen, look, colours)
    taken: list[Box] = []
    for mark in seen:
        found += drawn_mark(view, mark, mark.colour or colours.get(mark.cls, look.colour), look, taken)
    return found


register(LayerType("marks", Marks, MarkLook, _first, primitives=_primitives))
