"""Slices that were drawn across the grid: in a plane of the world, or any other, that its slices do not lie in."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from ...core.grid_plane import lying_in
from ...core.halves import in_halves
from ...core.kernel import kernel
from ...core.progress import Progress
from ...core.space import Space
from .between import Drawn
from .drawn_slices import THIN
from .flat_distance import signed_distance
from .stack import NOWHERE, Stack

FULL = 8 / 9
"""Share of three by three places that are set where a slice has an area."""
SOLID = 2.5
"""How many times as many voxels as the usual layer the fullest one has where slices were drawn that others cross; of a
body it has fewer."""
DENSE = 0.3
"""Share of the most voxels at one place along the stack, from which on it belongs to the slice."""
ALL = 0.97
"""Share of what is drawn that has to lie in the slices found."""


@dataclass(frozen=True)
class Sheets:
    """Drawn slices across one direction: the direction (x, y, z; length 1), where along it they lie, and how thick the
    layer of voxels is that such a plane runs through, in the unit of the world."""

    normal: np.ndarray
    at: tuple[float, ...]
    thick: float


def thickness(normal: np.ndarray, space: Space) -> float:
    """Of the layer of voxels that a plane runs through."""
    return float(np.abs(normal @ space.affine[:3, :3]).sum())


def in_plane(normal: np.ndarray, space: Space) -> np.ndarray:
    """Two directions of length 1 that span a plane, the first one nearest to an axis of the grid."""
    steps = space.affine[:3, :3] / np.array(space.spacing)
    right = steps[:, int(np.abs(normal @ steps).argmin())]
    right = right - (right @ normal) * normal
    right /= np.linalg.norm(right)
    return np.stack((right, np.cross(normal, right)))


def directions(space: Space, world_axis: int | None = None) -> list[np.ndarray]:
    """Across which planes slices may have been drawn: those of the world that the grid's own do not lie in, or one of
    them, and the grid's own, for slices that cross; none when there are none of the world."""
    own = [space.across(n) for n in range(3)]
    axes = np.eye(3) if world_axis is None else np.eye(3)[[world_axis]]
    found = [one for one in axes if lying_in(one, space) is None]
    return [*found, *own] if found and world_axis is None else found


def sheets(places: np.ndarray, space: Space, normals: Iterable[np.ndarray]) -> list[Sheets]:
    """The planes in which a region was drawn slice by slice; none when what is drawn does not lie in such.

    Parameters
    ----------
    places : array (n, 3)
        World positions of its voxels.
    space : Space
        Of the grid.
    normals : directions to be tried
    """
    found: list[Sheets] = []
    rest, left = places, list(normals)
    while left and len(rest) > (1 - ALL) * len(places):
        tried = [(one, n) for n, normal in enumerate(left) if (one := _across(rest, normal, space)) is not None]
        if not tried:
            return []
        best, n = min(tried, key=lambda pair: len(pair[0].at) * pair[0].thick)
        found.append(best)
        left.pop(n)
        away = np.abs((rest @ best.normal)[:, None] - np.array(best.at)[None]).min(1)
        rest = rest[away > 0.75 * best.thick]
    return found if len(rest) <= (1 - ALL) * len(places) else []


def _across(places: np.ndarray, normal: np.ndarray, space: Space) -> Sheets | None:
    """Drawn slices across one direction; None when there are no two of them, or what has an area is thick."""
    thick, step = thickness(normal, space), min(space.spacing)
    along = places @ normal
    layers = np.bincount(((along - along.min()) / thick + 0.5).astype(int))
    if (layers > 0).all() and layers.max() < SOLID * np.median(layers):
        return None
    flat = np.floor((places @ in_plane(normal, space).T) / step).astype(np.int64)
    flat -= flat.min(0)
    order = np.argsort(along, kind="stable")
    along, flat = along[order], flat[order]
    quarter = thick / 4
    own = lying_in(normal, space) is not None
    starts = along[0] - quarter + quarter * np.arange(int((along[-1] - along[0]) / quarter) + 2)
    lows, highs = np.searchsorted(along, starts), np.searchsorted(along, starts + thick * 1.02)
    wide, run = np.zeros(len(starts), bool), 0
    for n, (a, b) in enumerate(zip(lows, highs)):
        wide[n] = _has_area(flat[a:b])
        run = run + 1 if wide[n] else 0
        if run > 4 * (THIN + 1):  # thicker than anybody draws slice by slice
            return None
    ends = np.flatnonzero(np.diff(np.concatenate(([0], wide.astype(np.int8), [0]))))
    at = []
    for first, last in ends.reshape(-1, 2):
        here = along[lows[first] : highs[last - 1]]
        count, edges = np.histogram(here, np.arange(here[0] - quarter / 2, here[-1] + quarter, quarter))
        dense = np.flatnonzero(count >= DENSE * count.max())  # a slice that crosses is much thinner
        low, high = max(here[0], edges[dense[0]]), min(here[-1], edges[dense[-1] + 1])
        # slices drawn right beside one another; middles of voxels of the grid's own have no thickness
        many = max(1, round((high - low) / thick + own))
        at += [(low + high) / 2 + (n - (many - 1) / 2) * thick for n in range(many)]
    return Sheets(normal, tuple(at), thick) if len(at) > 1 else None


def _has_area(flat: np.ndarray) -> bool:
    """Whether places in a plane, in steps, have an area somewhere, not a line's width alone."""
    from scipy import ndimage

    if len(flat) < 8:
        return False
    low = flat.min(0)
    there = np.zeros(flat.max(0) - low + 1, np.float32)
    there[tuple((flat - low).T)] = 1
    if min(there.shape) < 3:
        return False
    return bool((ndimage.uniform_filter(there, 3, mode="constant") > FULL - 1e-3).any())


@kernel
def _nearest(way, start, at, found, first, last):
    """How far the nearest of some places in order is from each voxel."""
    for k in range(first, last):
        for j in range(found.shape[1]):
            near = 0
            for i in range(found.shape[2]):
                here = start + way[0] * k + way[1] * j + way[2] * i
                while near + 1 < at.size and abs(at[near + 1] - here) <= abs(at[near] - here):
                    near += 1
                while near > 0 and abs(at[near - 1] - here) < abs(at[near] - here):
                    near -= 1
                found[k, j, i] = abs(at[near] - here)


@kernel
def _laid(field, ways, start, away, half, made, first, last):
    """A field [layer, row, column] at the voxels of a grid, mixed of eight; nothing in drawn slices."""
    layers, rows, columns = field.shape
    for k in range(first, last):
        for j in range(made.shape[1]):
            for i in range(made.shape[2]):
                made[k, j, i] = NOWHERE if away[k, j, i] <= half else -1
                if away[k, j, i] <= half:
                    continue
                z = start[0] + ways[0, 0] * k + ways[0, 1] * j + ways[0, 2] * i
                y = start[1] + ways[1, 0] * k + ways[1, 1] * j + ways[1, 2] * i
                x = start[2] + ways[2, 0] * k + ways[2, 1] * j + ways[2, 2] * i
                if not (0 <= z < layers - 1 and 0 <= y < rows - 1 and 0 <= x < columns - 1):
                    continue
                c, b, a = int(z), int(y), int(x)
                w, v, u = np.float32(z - c), np.float32(y - b), np.float32(x - a)
                one = np.float32(1)
                low = (one - v) * ((one - u) * field[c, b, a] + u * field[c, b, a + 1])
                low += v * ((one - u) * field[c, b + 1, a] + u * field[c, b + 1, a + 1])
                high = (one - v) * ((one - u) * field[c + 1, b, a] + u * field[c + 1, b, a + 1])
                high += v * ((one - u) * field[c + 1, b + 1, a] + u * field[c + 1, b + 1, a + 1])
                made[k, j, i] = (one - w) * low + w * high


class AcrossGrid(Stack):
    """Slices of a mask [k, j, i] across any direction; they are worked on in steps of half their thickness.

    `corner` is the first voxel (k, j, i) of the mask in the grid.
    """

    def __init__(self, mask: np.ndarray, corner: tuple[int, int, int], one: Sheets, space: Space):
        super().__init__()
        self.mask, self.one, self.grid = mask, one, space
        self.thick, self.step = one.thick * (1 + 1e-6), one.thick / 2
        pixel = min(space.spacing)
        self.spacing = pixel, pixel
        self.frame = np.vstack((one.normal, in_plane(one.normal, space)))
        to_world = space.affine[:3, :3]
        self.ways = (self.frame @ to_world)[:, ::-1]  # what a step along k, j, i is along normal, right and down
        start = self.frame @ space.to_world(np.array(corner[::-1]))
        self.at = np.array(one.at)
        self.start = start

    @cached_property
    def places(self) -> np.ndarray:
        along = (
            np.float32(way) * np.arange(n, dtype=np.float32).reshape([-1 if m == axis else 1 for m in range(3)])
            for axis, (way, n) in enumerate(zip(self.ways[0], self.mask.shape))
        )
        k, j, i = along
        return np.float32(self.start[0]) + k + j + i

    @cached_property
    def away(self) -> np.ndarray:
        found = np.empty(self.mask.shape, np.float32)
        given = self.ways[0], self.start[0], self.at, found
        in_halves(len(found), lambda a, b: _nearest(*given, a, b), found.size)
        return found

    def field(self, round_ends: bool, progress: Progress) -> np.ndarray:
        flat, shape = self._flat()
        numbers = np.round((self.at - self.at[0]) / self.step).astype(int)
        drawn = [Drawn(float(n * self.step), self._slice(at, flat, shape)) for n, at in zip(numbers, self.at)]
        before = int(numbers[1] - numbers[0])
        after = int(numbers[-1] - numbers[-2])
        found = np.full((before + numbers[-1] + 1 + after, *shape), np.float32(-1))
        for first, slab in self.between(drawn, round_ends, progress):
            low, high = max(0, -first - before), min(len(slab.values), len(found) - first - before)
            if high > low:
                part = found[before + first + low : before + first + high, slab.box[0], slab.box[1]]
                np.maximum(part, slab.values[low:high], out=part)
        for n, one in zip(numbers, drawn):
            inside = signed_distance(one.mask, self.spacing) / self.thick if not one.mask.all() else 1.0
            found[before + n] = np.clip(inside, -1, 1)
        self.filled = [(a + self.at[0], b + self.at[0]) for a, b in self.filled]
        progress.at(0.9)
        made = np.empty(self.mask.shape, np.float32)
        scale = np.array((self.step, *self.spacing))
        ways, start = self.ways / scale[:, None], (self.start - np.array((self.at[0], *flat))) / scale
        start[0] += before
        given = found, ways, start, self.away, np.float32(self.thick / 2), made
        in_halves(len(made), lambda a, b: _laid(*given, a, b), made.size)
        return made

    def _flat(self) -> tuple[np.ndarray, tuple[int, int]]:
        """Where the planes' first pixel lies along right and down, and how many rows and columns they have: round what
        is drawn, with room for shapes that are larger between."""
        used = np.argwhere(self.mask)
        across = self.start[1:] + used @ self.ways[1:].T
        low, high = across.min(0), across.max(0)
        room = np.maximum((high - low) / 3, 8 * self.spacing[0])
        count = np.ceil((high - low + 2 * room) / self.spacing[0]).astype(int) + 1
        return low - room, (int(count[0]), int(count[1]))

    def _slice(self, at: float, flat: np.ndarray, shape: tuple[int, int]) -> np.ndarray:
        """What is drawn where a plane runs through the grid."""
        rows, columns = (flat[n] + np.arange(shape[n]) * self.spacing[n] for n in range(2))
        y, x = np.meshgrid(rows, columns, indexing="ij")
        offset = np.stack((np.full(y.shape, at), y, x), -1) - self.start
        voxel = np.round(offset @ np.linalg.inv(self.ways).T).astype(int)
        within = ((voxel >= 0) & (voxel < self.mask.shape)).all(-1)
        found = np.zeros(shape, bool)
        found[within] = self.mask[tuple(voxel[within].T)]
        return found

    def stretches(self, corner: tuple[int, int, int]) -> list[tuple[int, int, int]]:
        """What is filled, as slices of the grid that lie nearest to the planes: its axis, the first and the last."""
        axis = int(np.abs(self.ways[0] / np.linalg.norm(self.ways, axis=0)).argmax())
        used = np.argwhere(self.mask).mean(0)
        middle = self.start[0] + self.ways[0] @ used
        found = []
        for low, high in self.filled:
            ends = sorted(used[axis] + (p - middle) / self.ways[0, axis] for p in (low, high))
            a, b = max(0, int(np.ceil(ends[0]))), min(self.mask.shape[axis] - 1, int(np.floor(ends[1])))
            if a <= b:
                found.append((2 - axis, corner[axis] + a, corner[axis] + b))
        return found
