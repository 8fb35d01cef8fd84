"""What stands over a picture of a plane: crosshair, side letters, bars of length and colour, the part in view. Each
piece is made of primitives, once for the pane and for every file."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from ..core.digits import round_below, signed
from ..core.quantity import pretty_unit, suited
from ..core.space import Space
from .colour_bars import WIDTH, colour_bars
from .layer import ImageLook
from .layer_type import Drawn
from .primitives import (
    BACKING,
    CHIP,
    FIGURES,
    INK,
    LIT,
    NIGHT,
    PALE,
    SOFT,
    Bitmap,
    Oval,
    Panel,
    Path,
    Primitive,
    Stroke,
    Words,
    haloed,
)
from .slab import slab_words
from .view import View

LINE = "#C9C49B"
"""Of the crosshair, at first."""
DARK_LETTER, LETTER = NIGHT, "#D3DCDF"
LONGEST = 110
"""Page units of the bar of length, or a fifth of a narrow page."""
SIDE, MARGIN, TOP = 120, 10, 30
"""Of the navigator: its longest side (a third of a small page), and its place at the upper right."""
WIDE = 0.6
"""Width of a figure, as a share of its size."""


def at_pixel(view: View, world) -> tuple[float, float]:
    """Page position of a world position; the middle of a pixel is half a unit from its corner."""
    x, y = view.to_pixel(world)
    return x + 0.5, y + 0.5


def crosshair(view: View, world, gap: float = 0.0, colour: str = LINE, wide: float = 1.0) -> list[Primitive]:
    """Two lines through the crosshair, with a gap around it so that what is looked at stays free."""
    x, y = at_pixel(view, world)
    ends = (
        ((x, 0.0), (x, y - gap)),
        ((x, y + gap), (x, float(view.height))),
        ((0.0, y), (x - gap, y)),
        ((x + gap, y), (float(view.width), y)),
    )
    return [Path(two, Stroke(colour, wide), crisp=True) for two in ends]


def letters(view: View) -> list[Primitive]:
    """Side letters: left and right in solid chips, the others plain; or that nobody knows the sides."""
    width, height = view.width, view.height
    if not view.sides_known:
        said = Words((width / 2, 14), "sides unknown")
        return [Panel((width / 2 - 48, 5, 96, 18), BACKING, 3), said]
    places = {
        "left": (14.0, height / 2),
        "right": (width - 14.0, height / 2),
        "top": (width / 2, 13.0),
        "bottom": (width / 2, height - 13.0),
    }
    found: list[Primitive] = []
    for edge, letter in view.letters().items():
        x, y = places[edge]
        if letter in "LR":
            found += [Panel((x - 9, y - 9, 18, 18), CHIP, 3), Words((x, y), letter, 14, INK, "700")]
        else:
            found.append(Words((x, y), letter, 14, LETTER, "600", shadow=DARK_LETTER))
    return found


def round_length(pixel: float, room: float) -> float:
    """The longest of 1, 2 and 5 times a power of ten that fills at most `room` page units."""
    return round_below(max(pixel * room, 1e-15))


def length_bar(view: View, unit: str) -> list[Primitive]:
    """A bar of round length at the lower left that follows the zoom."""
    return length_bar_of(view.pixel, view.width, view.height, unit)


def length_bar_of(pixel: float, width: float, height: float, unit: str) -> list[Primitive]:
    """The same on any page whose unit is `pixel` long."""
    length = round_length(pixel, min(width * 0.22, LONGEST))
    text, long, y = suited(length, unit), length / pixel, height - 13.0
    found: list[Primitive] = [Panel((8, height - 34, max(long, 8 * len(text)) + 10, 27), BACKING)]
    found += [
        Path(((13.0 + n, y + n), (13.0 + long + n, y + n)), Stroke(colour, 2), crisp=True)
        for n, colour in ((1, NIGHT), (0, PALE))
    ]
    return [*found, Words((13, y - 6), text, 12, PALE, FIGURES, "ls", NIGHT)]


def bars_of_colour(
    view: View, looks: Sequence[tuple[ImageLook, str, str]], right: float = 0.0, named: bool = False
) -> list[Primitive]:
    """A bar for every look with its limits and unit, from the right; of a look with two sides, one each.

    Parameters
    ----------
    looks : sequence of (look, unit, name)
    right : page units
        That are taken at the right already.
    named : bool
        The name of what is shown stands over its bars.
    """
    found: list[Primitive] = []
    for bar in colour_bars(list(looks), view.width, view.height, right):
        box = (bar.x, float(bar.y), float(WIDTH), float(bar.height))
        found.append(Bitmap(np.ascontiguousarray(bar.colours[:, None]), box))
        for text, y in ((bar.upper, bar.y), (bar.lower, bar.y + bar.height)):
            found += _chip((bar.x + WIDTH + 3, y), text)
        above = bar.y - 14.0
        if bar.unit:
            found += _chip((bar.x - 2, above), bar.unit)
        if named and bar.name:
            found += _chip((bar.x - 2, above - 17), bar.name)
    return found


def _chip(at: tuple[float, float], text: str) -> list[Primitive]:
    """Figures on a dark ground, from a place to the right."""
    x, y = at
    wide = 12 * WIDE * len(text) + 8
    return [Panel((x, y - 8, wide, 16), BACKING), Words((x + wide / 2, y), text, 12, PALE, FIGURES)]


def caption(view: View, text: str) -> list[Primitive]:
    """A line at the lower right: which plane it is."""
    wide = 12 * WIDE * len(text) + 10
    x, y = view.width - wide - 8, view.height - 34.0
    return [Panel((x, y, wide, 20), BACKING), Words((x + wide / 2, y + 10), text, 12, PALE, FIGURES)]


def decimals(space: Space) -> int:
    """Decimals of a position that tell a tenth of a voxel apart, two at least."""
    return min(9, max(2, math.ceil(-math.log10(min(space.spacing) / 10) - 1e-9)))


def plane_text(view: View, space: Space) -> str:
    """Which plane of the world a view lies in, as it stands over a pane: "z +3.20 mm"; "" of a tilted one, and of a
    picture."""
    normal = np.abs(view.normal)
    across = int(normal.argmax())
    if normal[across] < 1 - 1e-9 or space.flat_axis == across:
        return ""
    return f"{'xyz'[across]} {signed(float(view.centre[across]), decimals(space)).strip()} {pretty_unit(space.unit)}"


def tag(text: str, wide: float) -> list[Primitive]:
    """Says at the top left what it is that is seen, such as a preview that is no result yet; `wide` is how much room
    the words take."""
    return [Panel((8, 6, wide + 18, 20), CHIP, 3), Words((17 + wide / 2, 16), text, 12, NIGHT)]


def slabs(view: View, drawn: Sequence[Drawn], unit: str) -> list[Primitive]:
    """Says above the bar of length which images are seen as slabs, the lowest first, which needs no name; `unit` is
    that of lengths."""
    found: list[Primitive] = []
    y = view.height - 45.0
    for n, one in enumerate(drawn):
        words = slab_words(one.look, one.thing, unit) if isinstance(one.look, ImageLook) else ""
        if words:
            words = f"{one.thing.name}: {words}" if n else words
            wide = 12 * WIDE * len(words) + 10
            found += [Panel((8, y - 9, wide, 18), BACKING), Words((13, y), words, 12, PALE, FIGURES, "lm")]
            y -= 20
    return found


def brush(view: View, world, diameter: float, erasing: bool) -> list[Primitive]:
    """The outline of the brush under the pointer."""
    radius = diameter / 2 / view.pixel
    dashes = ((12.0, 9.0), (5.6, 4.2)) if erasing else ((), ())
    strokes = Stroke(NIGHT, 3, dashes[0]), Stroke("#FFFFFF", 1.4, dashes[1])
    return [Oval(at_pixel(view, world), (radius, radius), one) for one in strokes]


def section_line(view: View, line, share: Sequence[float] = ()) -> list[Primitive]:
    """The section in hand with its width and its ends; `share` says where along it its cursors stand.

    `line` tells start, end, width, length and `across`; see `measure.section.Line`.
    """
    start, end = np.array(line.start), np.array(line.end)
    a, b = at_pixel(view, start), at_pixel(view, end)
    found: list[Primitive] = []
    if line.width > 0 and line.length > 0:
        side = line.across * line.width / 2
        corners = (start + side, end + side, end - side, start - side)
        found.append(Path(tuple(at_pixel(view, c) for c in corners), Stroke(CHIP, 1, (4, 2)), True))
    found += haloed((a, b), Stroke(CHIP, 1.8))
    found += [Oval(at, (4.5, 4.5), Stroke(CHIP, 1.8), NIGHT) for at in (a, b)]
    way = np.subtract(b, a)
    tick = np.array((-way[1], way[0])) / (math.hypot(*way) or 1.0) * 9
    for n, one in enumerate(share, 1):
        at = np.array(a) + way * one
        found.append(Path((tuple(at - tick), tuple(at + tick)), Stroke(LIT, 2.4)))
        x, y = at + tick * 1.6
        found.append(Words((float(x), float(y)), str(n), 12, LIT, FIGURES))
    return found


def navigator(view: View, grid: Space, picture: np.ndarray | None = None) -> list[Primitive]:
    """The whole image small, the part in view framed; nothing when all of it is in view."""
    frame = navigator_frame(view, grid)
    if frame is None:
        return []
    whole, part = frame
    found: list[Primitive] = []
    if picture is not None:
        found.append(Bitmap(picture, whole))
    found.append(Panel(whole, "" if picture is not None else BACKING, 0, Stroke(SOFT, 1)))
    left, top = max(whole[0], part[0]), max(whole[1], part[1])
    right, bottom = min(whole[0] + whole[2], part[0] + part[2]), min(whole[1] + whole[3], part[1] + part[3])
    inside = (left, top, max(right - left, 4.0), max(bottom - top, 4.0))
    return [*found, Panel(inside, f"{CHIP}2D", 0, Stroke(CHIP, 1.5))]


Box = tuple[float, float, float, float]


def navigator_frame(view: View, grid: Space) -> tuple[Box, Box] | None:
    """Where the whole image and the part in view are drawn (left, top, width, height), at the upper right; None when
    all of it is in view, or there is no room."""
    corners = grid.corners()
    x, y = corners @ np.asarray(view.rightward), corners @ np.asarray(view.downward)
    corner = view.corner - (view.right + view.down) / 2
    left, top = corner @ np.asarray(view.rightward), corner @ np.asarray(view.downward)
    wide, high = float(np.ptp(x)), float(np.ptp(y))
    if view.pixel * view.width >= wide * 0.999 and view.pixel * view.height >= high * 0.999:
        return None
    longest = min(SIDE, view.width / 3, view.height / 3)
    if longest < 24 or not max(wide, high) > 0:
        return None
    scale = longest / max(wide, high)
    home = view.width - MARGIN - wide * scale - 18, float(TOP)
    part = home[0] + (left - x.min()) * scale, home[1] + (top - y.min()) * scale
    seen = view.pixel * view.width * scale, view.pixel * view.height * scale
    whole = (*home, max(wide * scale, 3.0), max(high * scale, 3.0))
    return whole, (float(part[0]), float(part[1]), *seen)


def swipe_line(view: View, share: float) -> list[Primitive]:
    """Where what lies above begins, with a grip."""
    x = round((1 - share) * view.width) + 0.5
    line = Path(((x, 0.0), (x, float(view.height))), Stroke(CHIP, 1.5))
    return [line, Panel((x - 4, view.height * 0.72, 8, 26), CHIP, 3)]
