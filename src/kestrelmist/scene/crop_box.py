"""The box that a solid scene is cropped to, with handles on its sides: as it is drawn, taken and dragged in the scene
and in planes."""

from __future__ import annotations

import numpy as np

from .pieces import at_pixel
from .primitives import NIGHT, Oval, Path, Primitive, Stroke, haloed
from .solid.eye import Eye
from .view import View

Ends = tuple[tuple[float, float, float], tuple[float, float, float]]
Side = tuple[int, int]
"""An axis of the world, and 0 for its lower end or 1 for its upper one."""
COLOUR, NEAR, RADIUS = "#E8B68C", 9.0, 5.0
"""How it is drawn; page units that count as on a handle; and a handle's radius."""
SIDES: tuple[Side, ...] = tuple((axis, end) for axis in range(3) for end in (0, 1))


def moved(crop: Ends, side: Side, value: float) -> Ends:
    """The box with a side elsewhere, which stops at the opposite one."""
    axis, end = side
    ends = [list(crop[0]), list(crop[1])]
    ends[end][axis] = min(value, ends[1][axis]) if end == 0 else max(value, ends[0][axis])
    return (ends[0][0], ends[0][1], ends[0][2]), (ends[1][0], ends[1][1], ends[1][2])


def middle_of(crop: Ends, side: Side) -> np.ndarray:
    """World position of the middle of a side, (3,)."""
    axis, end = side
    place = np.asarray(crop, float).mean(0)
    place[axis] = crop[end][axis]
    return place


# in the scene


def in_scene(eye: Eye, crop: Ends, page: float) -> list[Primitive]:
    """Edges and handles over the picture of a scene; `page` is the size of a page unit in its pixels."""
    ends = np.asarray(crop, float)
    found: list[Primitive] = []
    for axis in range(3):
        a, b = (n for n in range(3) if n != axis)
        for u in (0, 1):
            for v in (0, 1):
                two = np.empty((2, 3))
                two[:, axis], two[:, a], two[:, b] = ends[:, axis], ends[u, a], ends[v, b]
                (x0, y0, _), (x1, y1, _) = (tuple(float(v) / page for v in one) for one in eye.to_page(two))
                found.append(Path(((x0, y0), (x1, y1)), Stroke(COLOUR, 1.0)))
    return found + [_handle(_on_page(eye, middle_of(crop, side), page)) for side in SIDES]


def taken_in_scene(eye: Eye, crop: Ends, x: float, y: float, page: float) -> Side | None:
    """The side whose handle is at a place of the page; the nearest to who looks when there are several."""
    found: list[tuple[float, Side]] = []
    for side in SIDES:
        place = middle_of(crop, side)
        if np.hypot(*np.subtract(_on_page(eye, place, page), (x, y))) <= NEAR:
            found.append((float(eye.to_page(place)[2]), side))
    return min(found)[1] if found else None


def dragged_in_scene(eye: Eye, crop: Ends, side: Side, x: float, y: float, page: float) -> Ends:
    """The box when a handle is dragged to a place of the page: where its line comes nearest to the ray through that.

    A side that is seen from right ahead stays: no drag tells how far it should go.
    """
    start, along = eye.ray(x * page, y * page)
    across = np.zeros(3)
    across[side[0]] = 1.0
    share = float(along @ across)
    if 1 - share * share < 1e-3:
        return crop
    place = middle_of(crop, side)
    away = start - place
    moved_by = (float(away @ across) - share * float(away @ along)) / (1 - share * share)
    return moved(crop, side, float(place[side[0]]) + moved_by)


# in planes


def in_plane(view: View, crop: Ends) -> list[Primitive]:
    """The box's outline in a plane, with handles on its sides; dashed where the plane lies outside the box, and nothing
    in a tilted plane."""
    axes = _axes(view)
    if axes is None:
        return []
    a, b, across = axes
    at = view.centre[across]
    inside = crop[0][across] <= at <= crop[1][across]
    corners: list[tuple[float, float]] = []
    for u, v in ((0, 0), (1, 0), (1, 1), (0, 1)):
        place = np.array(view.centre, float)
        place[a], place[b] = crop[u][a], crop[v][b]
        x, y = at_pixel(view, place)
        corners.append((float(x), float(y)))
    corners.append(corners[0])
    found: list[Primitive] = []
    for two in zip(corners, corners[1:]):
        found += haloed(two, Stroke(COLOUR, 1.2, () if inside else (5, 4)))
    return found + [_handle(place) for _, place in _handles(view, crop)]


def taken_in_plane(view: View, crop: Ends, x: float, y: float) -> Side | None:
    """The side whose handle is at a place of the page."""
    for side, place in _handles(view, crop):
        if np.hypot(place[0] - x, place[1] - y) <= NEAR:
            return side
    return None


def _handles(view: View, crop: Ends) -> list[tuple[Side, tuple[float, float]]]:
    axes = _axes(view)
    found = []
    for axis in axes[:2] if axes is not None else ():
        for end in (0, 1):
            place = middle_of(crop, (axis, end))
            place[axes[2]] = view.centre[axes[2]]  # type: ignore[index]
            x, y = at_pixel(view, place)
            found.append(((axis, end), (float(x), float(y))))
    return found


def _axes(view: View) -> tuple[int, int, int] | None:
    """Axes of the world along a view's rows, along its columns and across it; None of a tilted one."""
    rows, columns = np.abs(np.asarray(view.rightward)), np.abs(np.asarray(view.downward))
    if rows.max() < 1 - 1e-6 or columns.max() < 1 - 1e-6:
        return None
    a, b = int(rows.argmax()), int(columns.argmax())
    return a, b, 3 - a - b


def _on_page(eye: Eye, place: np.ndarray, page: float) -> tuple[float, float]:
    x, y, _ = eye.to_page(place)
    return float(x) / page, float(y) / page


def _handle(place: tuple[float, float]) -> Primitive:
    return Oval(place, (RADIUS, RADIUS), Stroke(NIGHT, 1.4), COLOUR)
