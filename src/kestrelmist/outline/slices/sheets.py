"""The planes in which a region was drawn slice by slice, where they are planes of the world that the grid's own slices
do not lie in."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ...core.space import Space
from .drawn_slices import THIN

SAME = 1 - 1e-9
"""Cosine from which on a plane is one of the grid's own. The brush paints in steps across the slices of any other."""
FULL = 8 / 9
"""Share of three by three places that are set where a slice has an area."""
DENSE = 0.6
"""Share of the most voxels at one place along the stack, from which on it belongs to the slice."""
CLOSE = 0.85
"""Share of the stack that slices fill between the first and the last, below which some are left out."""
ALL = 0.97
"""Share of what is drawn that has to lie in the slices found."""
ADDS = 0.1
"""Share of what is drawn that has to lie in the slices of a further plane."""


@dataclass(frozen=True)
class Sheets:
    """Drawn slices across one direction: the direction (x, y, z; length 1), where along it they lie, and how thick the
    layer of voxels is that such a plane runs through, in the unit of the world."""

    normal: np.ndarray
    at: tuple[float, ...]
    thick: float

    @property
    def missing(self) -> bool:
        """Whether slices are left out between them; a few that are seen from aside look like many, close by."""
        filled = len(self.at) * self.thick / (self.at[-1] - self.at[0] + self.thick)
        return filled < CLOSE and max(np.diff(self.at)) > 1.25 * self.thick


def thickness(normal: np.ndarray, space: Space) -> float:
    """Of the layer of voxels that a plane runs through."""
    return float(np.abs(normal @ space.affine[:3, :3]).sum())


def directions(space: Space, world_axis: int | None = None) -> list[np.ndarray]:
    """Across which planes of the world slices may have been drawn that are none of the grid's own: all, or one."""
    axes = np.eye(3) if world_axis is None else np.eye(3)[[world_axis]]
    return [one for one in axes if not _own(one, space)]


def nearest_axis(normal: np.ndarray, space: Space) -> int:
    """The grid's axis across which slices lie nearest to a plane."""
    return int(np.argmax([abs(float(space.across(n) @ normal)) for n in range(3)]))


def _own(normal: np.ndarray, space: Space) -> bool:
    return max(abs(float(space.across(n) @ normal)) for n in range(3)) > SAME


def sheets(voxels: np.ndarray, space: Space, normals: list[np.ndarray]) -> list[Sheets]:
    """The planes in which a region was drawn slice by slice: one, or several that cross, of which some may be the
    grid's own; none when what is drawn does not lie in such, or no slice is left out.

    Parameters
    ----------
    voxels : int array (n, 3)
        Its voxels along i, j, k.
    space : Space
        Of the grid.
    normals : directions across planes of the world
    """
    alone = [one for one in (_parted(voxels, normal, space) for normal in normals) if one is not None]
    if any(len(one.at) == 1 for one in alone):  # from aside it would look like many
        return []
    if alone := [one for one in alone if one.missing]:
        return [min(alone, key=lambda one: len(one.at))]
    several = (_crossed(voxels, normal, space) for normal in (*normals, *(space.across(n) for n in range(3))))
    found: list[Sheets] = []
    rest = voxels
    for one in sorted((one for one in several if one is not None and one.missing), key=lambda one: len(one.at)):
        left = rest[_nearest_of(_along(rest, one.normal, space), np.array(one.at)) > 0.75 * one.thick]
        if len(rest) - len(left) > ADDS * len(voxels):
            found.append(one)
            rest = left
        if len(rest) <= (1 - ALL) * len(voxels):
            break
    if len(rest) > (1 - ALL) * len(voxels) or len(found) < 2:
        return []
    return found if any(not _own(one.normal, space) for one in found) else []


def in_one_sheet(voxels: np.ndarray, space: Space, normals: list[np.ndarray]) -> set[int]:
    """The grid's axes nearest to those directions across which a region lies in a single slice."""
    found = (_parted(voxels, normal, space) for normal in normals)
    return {nearest_axis(one.normal, space) for one in found if one is not None and len(one.at) == 1}


def _along(voxels: np.ndarray, normal: np.ndarray, space: Space) -> np.ndarray:
    """How far along a direction voxels lie."""
    return voxels @ (normal @ space.affine[:3, :3]) + float(normal @ space.affine[:3, 3])


def _nearest_of(along: np.ndarray, at: np.ndarray) -> np.ndarray:
    """How far the nearest of some places in order is."""
    ends = np.clip(np.searchsorted(at, along), 1, max(1, len(at) - 1))
    return np.minimum(np.abs(along - at[ends - 1]), np.abs(along - at[np.minimum(ends, len(at) - 1)]))


def _parted(voxels: np.ndarray, normal: np.ndarray, space: Space) -> Sheets | None:
    """Slices across one direction with nothing between them; None when something is thicker than anybody draws."""
    thick = thickness(normal, space)
    along = np.sort(_along(voxels, normal, space))
    ends = np.flatnonzero(np.diff(along) > thick / 4)
    lows, highs = along[[0, *(ends + 1)]], along[[*ends, -1]]
    at: list[float] = []
    first = last = lows[0]
    for low, high in zip((*lows, np.inf), (*highs, np.inf)):
        if high - first <= 1.02 * thick:  # few voxels of one slice lie apart
            last = high
            continue
        if last - first > THIN * thick:
            return None
        at += _slices_in(first, last, thick, 0)
        first, last = low, high
    return Sheets(normal, tuple(at), thick)


def _slices_in(low: float, high: float, thick: float, own: int) -> list[float]:
    """The middles of slices drawn right beside one another; middles of voxels of the grid's own have no thickness."""
    many = max(1, round((high - low) / thick + own))
    return [(low + high) / 2 + (n - (many - 1) / 2) * thick for n in range(many)]


def _crossed(voxels: np.ndarray, normal: np.ndarray, space: Space) -> Sheets | None:
    """Slices across one direction that others cross, as lines without an area; None when there are none."""
    thick, own = thickness(normal, space), int(_own(normal, space))
    # seen along the grid's axis that is nearest to the direction, a plane's layer of voxels has no hole
    along, flat = _along(voxels, normal, space), np.delete(voxels, nearest_axis(normal, space), 1)
    order = np.argsort(along, kind="stable")
    along, flat = along[order], flat[order]
    quarter = thick / 4
    starts = along[0] - quarter + quarter * np.arange(int((along[-1] - along[0]) / quarter) + 2)
    lows, highs = np.searchsorted(along, starts), np.searchsorted(along, starts + thick * 1.02)
    wide, run = np.zeros(len(starts), bool), 0
    for n, (a, b) in enumerate(zip(lows, highs)):
        wide[n] = _has_area(flat[a:b])
        run = run + 1 if wide[n] else 0
        if run > 4 * (THIN + 1):
            return None
    ends = np.flatnonzero(np.diff(np.concatenate(([0], wide.astype(np.int8), [0]))))
    at: list[float] = []
    for first, last in ends.reshape(-1, 2):
        here = along[lows[first] : highs[last - 1]]
        count, edges = np.histogram(here, np.arange(here[0] - quarter / 2, here[-1] + quarter, quarter))
        dense = np.flatnonzero(count >= DENSE * count.max())  # a slice that crosses has fewer at one place
        at += _slices_in(max(here[0], edges[dense[0]]), min(here[-1], edges[dense[-1] + 1]), thick, own)
    return Sheets(normal, tuple(at), thick) if at else None


def _has_area(flat: np.ndarray) -> bool:
    """Whether places in a plane have an area somewhere, not a line's width alone."""
    from scipy import ndimage

    if len(flat) < 8:
        return False
    low = flat.min(0)
    there = np.zeros(flat.max(0) - low + 1, np.float32)
    there[tuple((flat - low).T)] = 1
    return bool((ndimage.uniform_filter(there, 3, mode="constant") > FULL - 1e-3).any())
