"""Marks as layers: lines on a dark halo, in the colour of the mark or of its class."""

from __future__ import annotations

import numpy as np

from ...core.geometry.hits import Slice, in_slice, seen
from ...core.geometry.mark import Mark
from ...core.geometry.marks import Marks
from ...core.geometry.shape import shape_named
from ..layer import MarkLook
from ..layer_type import Drawn, LayerType, register
from ..pieces import at_pixel
from ..primitives import NIGHT, Oval, Point, Primitive, Stroke, Words, haloed
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


def slice_of(view: View) -> Slice:
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
    centre = np.asarray(view.centre, float)
    return [
        mark
        for mark in marks.within(low, high)
        if mark.id not in look.without
        and (mark.place is None or not look.place or mark.place == look.place)
        and in_slice(mark, centre, normal, thickness)
    ]


def drawn_mark(view: View, mark: Mark, colour: str, named: bool = True) -> list[Primitive]:
    """One mark: its line, small ticks across the ends of what is open, its name beside it."""
    line, closed = seen(mark, slice_of(view))
    points: list[Point] = [(x, y) for x, y in view.to_page(line).tolist()]
    stroke = Stroke(colour, mark.width)
    found: list[Primitive] = []
    if len(points) == 1 and not mark.text:
        found += [Oval(points[0], (POINT, POINT), Stroke(NIGHT, 3.6)), Oval(points[0], (POINT, POINT), stroke)]
        found.append(Oval(points[0], (1.0, 1.0), fill=colour))
    elif len(points) > 1:
        found += haloed(points, stroke, closed)
        found += _ends(mark, points, stroke)
    said = mark.text or (mark.name if named else "")
    if said:
        at, anchor = _beside(view, points if not mark.text else points[:1], said)
        found.append(Words(at, said, 12, colour, "600", anchor, NIGHT))
    return found


def _beside(view: View, points: list[Point], said: str) -> tuple[Point, str]:
    """Where words stand beside a mark, and which end of them is there: on its right; on its left where there is no
    room; at the edge of the picture where there is none at all."""
    wide = LETTER * len(said)
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


def _primitives(view: View, layer: Drawn) -> list[Primitive]:
    look, found = layer.look, []
    colours = dict(look.colours)
    for mark in in_view(view, layer.thing, look):
        found += drawn_mark(view, mark, mark.colour or colours.get(mark.cls, look.colour), look.named)
    return found


register(LayerType("marks", Marks, MarkLook, _first, primitives=_primitives))
