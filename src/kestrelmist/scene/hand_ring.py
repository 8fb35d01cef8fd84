"""What a hand turns and scales a layer by: a ring round the crosshair, with four corners."""

from __future__ import annotations

import numpy as np

from .pieces import at_pixel
from .primitives import CHIP, LIT, NIGHT, PALE, Oval, Panel, Path, Point, Primitive, Stroke, Words
from .view import View

REACH, CORNER = 0.3, 1.25
"""Of the ring that a hand turns by, as a share of the page; of the corners that it scales by, as a share of that."""


def ring_radius(view: View) -> float:
    """Of the ring round the crosshair that a hand turns a layer by, page units."""
    return REACH * min(view.width, view.height)


def hand_ring(view: View, world, grip: str = "", turned: float = 0.0) -> list[Primitive]:
    """What a hand moves a layer by, round a place that stays: a ring to turn by, four corners to scale by. `grip` is
    the one that is held ("turn", "scale"), `turned` the degrees clockwise by which the ring's ticks have gone along."""
    x, y = at_pixel(view, world)
    radius = ring_radius(view)
    found: list[Primitive] = []
    for colour, wide in ((NIGHT, 3.4), (LIT if grip == "turn" else PALE, 1.4)):
        found.append(Oval((x, y), (radius, radius), Stroke(colour, wide)))
        for tick in range(0, 360, 45):
            way = np.array([np.cos(np.radians(tick + turned)), np.sin(np.radians(tick + turned))])
            ends = [tuple((np.array([x, y]) + way * r).tolist()) for r in (radius - 5, radius + 5)]
            found.append(Path((ends[0], ends[1]), Stroke(colour, wide)))
    half, side = radius * CORNER / np.sqrt(2), 4.5
    for a, b in ((-1, -1), (1, -1), (1, 1), (-1, 1)):
        box = x + a * half - side, y + b * half - side, 2 * side, 2 * side
        found.append(Panel(box, LIT if grip == "scale" else PALE, 1, Stroke(NIGHT, 1.4)))
    return found


def grip_at(view: View, world, at: Point) -> str:
    """What of that ring is at a place of the page: "turn", "scale", or "" for nothing."""
    x, y = at_pixel(view, world)
    away = np.array(at) - (x, y)
    radius = ring_radius(view)
    if np.abs(np.abs(away) - radius * CORNER / np.sqrt(2)).max() <= 9:
        return "scale"
    return "turn" if abs(float(np.hypot(*away)) - radius) <= 9 else ""


def told_at(view: View, world, text: str, wide: float) -> list[Primitive]:
    """A few words below a place; `wide` is how much room they take."""
    x, y = at_pixel(view, world)
    left = min(max(x - wide / 2 - 9, 4), view.width - wide - 22)
    top = min(max(y + ring_radius(view) + 14, 4), view.height - 26)
    return [
        Panel((left, top, wide + 18, 20), CHIP, 3),
        Words((left + 9 + wide / 2, top + 10), text, 12, NIGHT),
    ]
