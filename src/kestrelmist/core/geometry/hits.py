"""What of a mark lies under a pointer, in page units: a handle, its line, its inside. And which marks a slice shows."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass

import numpy as np

from .mark import Mark
from .marks import Marks
from .shape import shape_named

To = Callable[[np.ndarray], np.ndarray]
"""World positions (n, 3) to page positions (n, 2)."""
NEAR = 9.0
"""Page units within which a handle or a line is taken hold of."""


@dataclass(frozen=True)
class Slice:
    """The plane that a picture shows: a place in it, and the direction of length 1 across it."""

    centre: np.ndarray
    normal: np.ndarray


def seen(mark: Mark, slice: Slice | None) -> tuple[np.ndarray, bool]:
    """The line that a slice shows of a mark, world positions (m, 3), and whether it is closed."""
    shape = shape_named(mark.shape)
    if shape.cut is not None and slice is not None:
        line = shape.cut(mark.array, slice.centre, slice.normal)
        if len(line) > 2:
            return line, True
    return mark.outline, shape.closed


@dataclass(frozen=True)
class Hit:
    """A mark under the pointer: its handle, None for its line or its inside; and how far away that is, page units."""

    mark: Mark
    handle: int | None
    away: float


def hit(
    marks: Iterable[Mark], at: tuple[float, float], to: To, near: float = NEAR, slice: Slice | None = None
) -> Hit | None:
    """The mark that a pointer at a page position takes hold of: handles come before lines, lines before insides, then
    what is nearest, and of several of these the last one drawn."""
    best: tuple[tuple[int, float], Hit] | None = None
    for mark in marks:
        found = hit_of(mark, at, to, near, slice)
        if found is None:
            continue
        rank = (0 if found.handle is not None else 1 if found.away > 0 else 2, found.away)
        if found.handle is None and found.away == 0 and not on_line(mark, at, to, near, slice):
            rank = (2, 0.0)
        if best is None or rank <= best[0]:
            best = rank, found
    return None if best is None else best[1]


def hit_of(mark: Mark, at: tuple[float, float], to: To, near: float = NEAR, slice: Slice | None = None) -> Hit | None:
    """What of one mark is under a pointer; None when nothing is."""
    shape, point = shape_named(mark.shape), np.asarray(at, float)
    handles = np.hypot(*(to(shape.handles(mark.array)) - point).T)
    nearest = int(handles.argmin())
    if handles[nearest] <= near:
        return Hit(mark, nearest, float(handles[nearest]))
    line, closed = seen(mark, slice)
    line = to(line)
    away = to_line(line, point, closed)
    if away <= near:
        return Hit(mark, None, away)
    return Hit(mark, None, 0.0) if shape.closed and inside(line, point) else None


def on_line(mark: Mark, at: tuple[float, float], to: To, near: float = NEAR, slice: Slice | None = None) -> bool:
    """Whether a pointer is on the line of a mark."""
    line, closed = seen(mark, slice)
    return to_line(to(line), np.asarray(at, float), closed) <= near


def to_line(line: np.ndarray, point: np.ndarray, closed: bool) -> float:
    """Distance from a point to a line through points (n, 2)."""
    if len(line) == 1:
        return float(np.hypot(*(line[0] - point)))
    starts = line if closed else line[:-1]
    ways = (np.roll(line, -1, 0) if closed else line[1:]) - starts
    lengths = (ways**2).sum(1)
    share = np.clip(((point - starts) * ways).sum(1) / np.where(lengths > 0, lengths, 1), 0, 1)
    return float(np.hypot(*(starts + share[:, None] * ways - point).T).min())


def inside(line: np.ndarray, point: np.ndarray) -> bool:
    """Whether a point lies in a closed line (n, 2): a ray from it crosses the line an odd number of times."""
    x, y = line.T
    after_x, after_y = np.roll(x, -1), np.roll(y, -1)
    crosses = (y > point[1]) != (after_y > point[1])
    with np.errstate(divide="ignore", invalid="ignore"):
        at = x + (point[1] - y) / (after_y - y) * (after_x - x)
    return bool((crosses & (point[0] < at)).sum() % 2)


def all_in_slice(marks: Marks, centre: np.ndarray, normal: np.ndarray, thickness: float) -> np.ndarray:
    """As `in_slice`, of all marks at once: bool (n,), in their order."""
    lines = marks.lines
    if not len(lines.depths):
        return np.zeros(0, bool)
    away = (lines.points - centre) @ normal
    low, high = (look.reduceat(away, lines.starts[:-1]) for look in (np.minimum, np.maximum))
    reach = np.maximum(thickness, lines.depths) / 2 * (1 + 1e-6) + 1e-12
    whole = np.maximum(np.abs(low), np.abs(high)) <= reach
    shown = np.where(lines.rooms, (low <= reach) & (high >= -reach), whole)
    across = np.abs(lines.normals @ normal)
    return shown & ~(across < 0.999)  # of those without a normal it is NaN


def in_slice(mark: Mark, centre: np.ndarray, normal: np.ndarray, thickness: float) -> bool:
    """Whether a slice through a centre shows a mark: the plane it was drawn in is that of the slice, or it holds in
    every plane, and it lies no further from it than half the slice's thickness, or half its own depth.

    Parameters
    ----------
    normal : (3,) of length 1
    thickness : mm
        Of the slice.
    """
    if mark.normal is not None and abs(float(np.dot(mark.normal, normal))) < 0.999:
        return False
    reach = max(thickness, mark.depth) / 2 * (1 + 1e-6) + 1e-12
    away = (mark.outline - centre) @ normal
    if shape_named(mark.shape).cut is not None:
        return bool(away.min() <= reach and away.max() >= -reach)
    return bool(np.abs(away).max() <= reach)
