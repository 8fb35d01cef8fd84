"""A contact sheet as a page: slices in rows, and beside them where they cut, colour bars and a rendering."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import numpy as np

from ...core.digits import signed
from ...core.errors import Trouble
from ...core.labels import LabelMap
from ...core.quantity import pretty_unit, suited
from .. import pieces
from ..colours import colour_table, packed
from ..compare import Comparison, draw_compared
from ..drawing import draw_over
from ..layer import ImageLook, MarkLook
from ..layer_type import Drawn, primitives_of
from ..primitives import INK, NIGHT, PALE, SOFT, Bitmap, Page, Path, Primitive, Stroke, Words, shifted
from ..slab import slab_words
from ..view import Plane, View, plane_view
from .plan import PLANES, Box, SheetPlan, SheetStack, places_of, subject_box

MARGIN, STRIP, LINE = 8.0, 108.0, 16.0
"""Page units: round the page, of what stands beside the slices, and of a line of words."""
GROUND = {False: "#0B1013", True: "#FFFFFF"}
MOST_PIXELS = 200_000_000
OVER = Comparison()
LEAST = 12
"""Pixels across a slice."""


@dataclass(frozen=True)
class Cell:
    """A slice of a sheet: what is in it, its plane and place, and where it stands, in pixels."""

    stack: SheetStack
    plane: Plane
    at: float
    left: int
    top: int
    first: bool
    named: str = ""


@dataclass
class Laid:
    """How a sheet lies.

    Parameters
    ----------
    cells : list of Cell
    sizes : dict
        Columns and rows of pixels of a slice of each plane, by its name.
    pixel : mm
    width, height : pixels
    scale : pixels a page unit
    places : list of (plane, place)
    """

    cells: list[Cell]
    sizes: dict[str, tuple[int, int]]
    boxes: dict[str, Box]
    pixel: float
    width: int
    height: int
    scale: float
    places: list[tuple[Plane, float]] = field(default_factory=list)


def laid_out(subjects: Sequence[Sequence[SheetStack]], plan: SheetPlan, width: int, scale: float) -> Laid:
    """Where everything stands on a page so many pixels wide.

    Parameters
    ----------
    subjects : sequence of sequences of SheetStack
        One below the other, and of each several stacks side by side.

    Raises
    ------
    Trouble
        When there is no plane of that name, places are none, or slices would be too small to be seen.
    """
    planes = []
    for name in plan.planes:
        if name not in PLANES:
            raise Trouble(f"There is no plane “{name}”", "name axial, coronal or sagittal, with commas between them")
        planes.append(PLANES[name])
    lead = subjects[0][0]
    flat = lead.image.space.flat_axis
    if flat is not None and any(plane.across != flat for plane in planes):
        raise Trouble(f"“{lead.image.name}” is one slice", "name the plane that it lies in")
    boxes = {id(row): _box_of(row, plan.trim) for row in subjects}
    whole = _box_of([one for row in subjects for one in row], plan.trim)
    placed = [(plane, places_of(plan, plane, lead.image, lead.labels, boxes[id(subjects[0])])) for plane in planes]
    beside = max(len(row) for row in subjects)
    count = max(len(places) for _, places in placed)
    room = width - 2 * MARGIN * scale - (STRIP * scale if _has_strip(plan, subjects) else 0)
    sizes_mm = {p.name: (whole.along(p.right), whole.along(p.up)) for p in planes}
    widest = max(w for w, _ in sizes_mm.values())
    columns = plan.columns or _columns(count, beside, sizes_mm[planes[0].name], room, len(subjects))
    columns = max(1, min(columns, count))
    across = columns * beside
    wide = room / (across + max(0, across - 1) * plan.gap)
    if wide < LEAST:
        raise Trouble(f"Slices would be {max(0, int(wide))} pixels wide", "ask for fewer columns, or a larger page")
    pixel = widest / wide
    sizes = {name: (max(1, int(w / pixel)), max(1, int(h / pixel))) for name, (w, h) in sizes_mm.items()}
    step = wide * (1 + plan.gap)
    cells: list[Cell] = []
    top = MARGIN * scale
    for row in subjects:
        if row[0].name:
            top += LINE * scale
        for plane, places in placed:
            tall = sizes[plane.name][1]
            for n, at in enumerate(places):
                line, column = divmod(n, columns)
                y = top + line * tall * (1 + max(plan.gap, 0.0))
                for m, stack in enumerate(row):
                    x = MARGIN * scale + (column * beside + m) * step + (wide - sizes[plane.name][0]) / 2
                    cells.append(Cell(stack, plane, at, int(x), int(y), n == 0, row[0].name if n == m == 0 else ""))
            lines = math.ceil(len(places) / columns)
            top += lines * tall * (1 + max(plan.gap, 0.0)) + 0.3 * MARGIN * scale
    height = int(top + (LINE if plan.written else 0.4 * MARGIN) * scale + MARGIN * scale)
    least = int((2 * MARGIN + 150) * scale) if _has_strip(plan, subjects) else 1
    if width * max(height, least) > MOST_PIXELS:
        raise Trouble(f"This sheet would have {width * height // 10**6} megapixels", "ask for fewer dots an inch")
    all_places = [(plane, at) for plane, places in placed for at in places]
    own = {plane.name: whole for plane in planes}
    return Laid(cells, sizes, own, pixel, width, max(height, least), scale, all_places)


def _box_of(stacks: Sequence[SheetStack], trim: bool) -> Box:
    found = subject_box(stacks[0].image, trim)
    for one in stacks[1:]:
        found = found.with_other(subject_box(one.image, trim))
    return found


def _has_strip(plan: SheetPlan, subjects: Sequence[Sequence[SheetStack]]) -> bool:
    return plan.locator or (plan.bars and bool(_looks(subjects)))


def _columns(count: int, beside: int, size: tuple[float, float], room: float, rows: int) -> int:
    """As many as make the slices about 4 wide to 3 tall."""
    wide, tall = size
    best = math.sqrt(max(1.0, count * rows * tall / max(wide * beside, 1e-12) * 4 / 3))
    return max(1, min(count, round(best / rows) if rows > 1 else round(best)))


def view_of(cell: Cell, laid: Laid, left_on_left: bool) -> View:
    """What a slice shows."""
    width, height = laid.sizes[cell.plane.name]
    box, known = laid.boxes[cell.plane.name], cell.stack.image.space.sides_known
    centre = [(a + b) / 2 for a, b in zip(box.low, box.high)]
    centre[cell.plane.across] = cell.at
    return plane_view(cell.plane, centre, laid.pixel, width, height, left_on_left or not known, known)


def sheet_page(
    subjects: Sequence[Sequence[SheetStack]],
    plan: SheetPlan,
    width: int,
    scale: float = 1.0,
    how: Comparison = OVER,
    rendering: np.ndarray | None = None,
    stop: Callable[[float], object] = lambda share: None,
) -> tuple[Page, Laid]:
    """The page of a sheet, and how it lies.

    Parameters
    ----------
    width : pixels
    scale : pixels a page unit
    how : Comparison
        How what lies over the images is seen.
    rendering : uint32 array (height, width) of packed colours, optional
        A picture of the solid scene, that stands beside the slices.
    stop : callable
        Called with the share that is done; may raise.
    """
    laid = laid_out(subjects, plan, width, scale)
    ground = np.full((laid.height, laid.width), packed(GROUND[plan.light]), np.uint32)
    taken = np.zeros(ground.shape, bool) if plan.gap < 0 else None
    over: list[Primitive] = []
    for n, cell in enumerate(laid.cells):
        stop(n / len(laid.cells))
        view = view_of(cell, laid, plan.left_on_left)
        layers = list(cell.stack.layers)
        picture = draw_compared(view, layers[:1], [d for d in layers[1:] if not isinstance(d.thing, LabelMap)], how)
        draw_over(view, [d for d in layers[1:] if isinstance(d.thing, LabelMap)], picture)
        _put(ground, picture, cell.left, cell.top, taken)
        marks = [Drawn(d.thing, d.look, d.opacity) for d in layers if isinstance(d.look, MarkLook)]
        flat = view.moved(pixel=view.pixel * scale, width=view.width / scale, height=view.height / scale)
        found = primitives_of(flat, marks)
        found += _said(cell, flat, plan)
        over += shifted(found, cell.left / scale, cell.top / scale)
    over += _below(laid, subjects, plan)
    over += _beside(laid, subjects, plan, how, rendering)
    return Page(ground, over, scale), laid


def _put(ground: np.ndarray, picture: np.ndarray, left: int, top: int, taken: np.ndarray | None) -> None:
    """Lay a slice on the page; of slices that overlap, what is brighter is seen."""
    rows, columns = ground[top : top + picture.shape[0], left : left + picture.shape[1]].shape
    there = ground[top : top + rows, left : left + columns]
    new = picture[:rows, :columns]
    if taken is None:
        there[:] = new
        return
    before = taken[top : top + rows, left : left + columns]
    parts = []
    for shift in (16, 8, 0):
        a, b = (one >> np.uint32(shift) & np.uint32(255) for one in (there, new))
        parts.append(np.maximum(a, b) << np.uint32(shift))
    there[:] = np.where(before, np.uint32(0xFF000000) | parts[0] | parts[1] | parts[2], new)
    before[:] = True


def _said(cell: Cell, view: View, plan: SheetPlan) -> list[Primitive]:
    """What stands in a slice: its place, letters of the first one of a plane, and whose it is."""
    found: list[Primitive] = []
    space = cell.stack.image.space
    if plan.written and space.flat_axis != cell.plane.across:
        words = f"{'xyz'[cell.plane.across]} {signed(cell.at, pieces.decimals(space) - 1).strip()}"
        size = max(6.0, min(11.0, view.width / 6.5))
        found.append(Words((3, view.height - 3), words, size, PALE, "figures", "ls", NIGHT))
    if plan.letters and cell.first and space.sides_known and view.width > 40:
        letters = view.letters()
        size = max(8.0, min(13.0, view.width / 6))
        middle = view.height / 2
        for side, x, anchor in (("left", 3.0, "lm"), ("right", view.width - 3.0, "rm")):
            found.append(Words((x, middle), letters[side], size, "#E8B68C", "700", anchor, NIGHT))
    if cell.named:
        found.append(Words((0, -4), cell.named, 12, INK if plan.light else PALE, "600", "ls"))
    return found


def _below(laid: Laid, subjects: Sequence[Sequence[SheetStack]], plan: SheetPlan) -> list[Primitive]:
    if not plan.written:
        return []
    height, unit = laid.height / laid.scale, subjects[0][0].image.space.unit
    room = min(laid.sizes[laid.cells[0].plane.name][0] * 1.6, laid.width * 0.22)
    length = pieces.round_length(laid.pixel, room)
    long, ink = length / laid.pixel / laid.scale, INK if plan.light else PALE
    y = height - MARGIN
    line = Path(((MARGIN, y), (MARGIN + long, y)), Stroke(ink, 2.0), crisp=True)
    layers = [d for row in subjects for stack in row for d in stack.layers if isinstance(d.look, ImageLook)]
    said = [suited(length, unit), *dict.fromkeys(filter(None, (slab_words(d.look, d.thing, unit) for d in layers)))]
    return [line, Words((MARGIN + long + 6, y + 4), ", ".join(said), 12, ink, "figures", "ls")]


def _looks(subjects: Sequence[Sequence[SheetStack]]) -> list[tuple[ImageLook, str, str]]:
    """Looks of what lies over the images, each once; of the images themselves when nothing does."""
    found: list[tuple[ImageLook, str, str]] = []
    for over in (True, False):
        for row in subjects:
            for stack in row:
                for one in stack.layers[1:] if over else stack.layers[:1]:
                    if isinstance(one.look, ImageLook) and not one.thing.colour:
                        entry = (one.look, one.thing.unit, one.thing.name)
                        if all(entry[0] != known[0] for known in found):
                            found.append(entry)
        if found:
            break
    return found[:4]


def _beside(
    laid: Laid,
    subjects: Sequence[Sequence[SheetStack]],
    plan: SheetPlan,
    how: Comparison,
    rendering: np.ndarray | None,
) -> list[Primitive]:
    """Where slices cut, colour bars and the rendering, from the top down."""
    if not _has_strip(plan, subjects):
        return []
    left, top, wide = laid.width / laid.scale - STRIP, MARGIN, STRIP - MARGIN
    ink = INK if plan.light else PALE
    found: list[Primitive] = []
    stack = subjects[0][0]
    if plan.locator and stack.image.space.flat_axis is None:
        for plane in dict.fromkeys(plane for plane, _ in laid.places):
            picture, lines = _locator(stack, plane, laid, wide, plan, how)
            tall = picture.shape[0] / laid.scale
            found.append(Bitmap(picture, (left, top, wide, tall)))
            found += shifted(lines, left, top)
            top += tall + MARGIN
    if rendering is not None:
        tall = wide * rendering.shape[0] / rendering.shape[1]
        found.append(Bitmap(rendering, (left, top, wide, tall)))
        top += tall + MARGIN
    for look, unit, name in _looks(subjects) if plan.bars else ():
        found += _bar(look, unit, name, left, top, wide, ink)
        top += 30 + 26 * len(look.sides())
    return found


def _bar(look: ImageLook, unit: str, name: str, left: float, top: float, wide: float, ink: str) -> list[Primitive]:
    found: list[Primitive] = []
    said = name if len(name) < 18 else name[:16] + "…"
    words = f"{said}, {pretty_unit(unit)}" if unit else said
    found.append(Words((left, top + 10), words, 10, ink, "600", "ls"))
    for n, (sign, one) in enumerate(look.sides()):
        share = np.linspace(0, 1, 128)
        picked = np.rint(255 * (share[::-1] if sign < 0 else share)).astype(int)
        colours = colour_table(one.colour_map, one.inverted)[picked][None, :]
        y = top + 15 + 26 * n
        found.append(Bitmap(np.ascontiguousarray(colours), (left, y, wide, 8)))
        ends = (-one.high, -one.low) if sign < 0 else (one.low, one.high)
        for value, x, anchor in ((ends[0], left, "la"), (ends[1], left + wide, "ra")):
            found.append(Words((x, y + 10), f"{value:.4g}".replace("-", "−"), 9, ink, "figures", anchor))
    return found


def _locator(
    stack: SheetStack, plane: Plane, laid: Laid, wide: float, plan: SheetPlan, how: Comparison
) -> tuple[np.ndarray, list[Primitive]]:
    """A slice across a plane, and lines where the slices of that cut it."""
    across = PLANES["coronal"] if plane.name == "Sagittal" else PLANES["sagittal"]
    box = laid.boxes[plane.name]
    width = max(LEAST, int(wide * laid.scale))
    pixel = max(box.along(across.right), 1e-12) / width
    height = max(LEAST, min(4 * width, int(box.along(across.up) / pixel)))
    centre = [(a + b) / 2 for a, b in zip(box.low, box.high)]
    known = stack.image.space.sides_known
    view = plane_view(across, centre, pixel, width, height, plan.left_on_left, known)
    picture = draw_compared(view, stack.layers[:1], [], how)
    lines: list[Primitive] = []
    for one, at in laid.places:
        if one is not plane:
            continue
        ends = [list(centre), list(centre)]
        other = next(n for n in range(3) if n not in (across.across, plane.across))
        ends[0][other], ends[1][other] = box.low[other], box.high[other]
        for end in ends:
            end[plane.across] = at
        points = tuple(tuple(float(v) / laid.scale for v in view.to_page(end)) for end in ends)
        lines.append(Path(points, Stroke("#E8B68C" if len(laid.places) < 40 else SOFT, 0.9)))  # type: ignore[arg-type]
    return picture, lines
