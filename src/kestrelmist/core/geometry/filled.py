"""The voxels that a mark covers: those whose middle lies within its outline, in the slice that it was drawn in."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from ..errors import Trouble
from ..grid_plane import lying_in
from ..kernel import kernel
from ..space import Space
from .mark import Mark
from .shape import shape_named

MOST = 1 << 31
"""Voxels of a box that are looked at for one mark."""


@dataclass(frozen=True)
class Covered:
    """Voxels of a grid that a mark covers: a mask [k, j, i] (uint8), and where its first voxel stands (k, j, i)."""

    mask: np.ndarray
    corner: tuple[int, int, int]

    @property
    def part(self) -> tuple[slice, slice, slice]:
        """The slices along k, j, i that it takes."""
        k, j, i = (slice(c, c + n) for c, n in zip(self.corner, self.mask.shape))
        return k, j, i


def covered(mark: Mark, space: Space) -> Covered | None:
    """The voxels that a mark covers.

    A closed line covers what lies within it in the slice it was drawn in, and in those within half its depth; a box
    what is in it; an open line what lies within half its width, or the voxels it runs through; a point its voxel.

    Returns
    -------
    Covered or None
        None when it covers none.

    Raises
    ------
    Trouble
        When a closed line lies in no plane.
    """
    shape = shape_named(mark.shape)
    if shape.cut is not None:
        return _in_box(mark, space)
    if shape.closed:
        return _within(mark, space)
    return _along(mark, space)


def plane_of(points: np.ndarray, tolerance: float, called: str) -> np.ndarray:
    """Direction of length 1 across the plane that points lie in; raises Trouble when they lie in none."""
    centred = points - points.mean(0)
    _, sizes, ways = np.linalg.svd(centred, full_matrices=True)
    normal = ways[2]
    if len(sizes) > 2 and np.abs(centred @ normal).max() > tolerance:
        raise Trouble(f"The points of the {called} do not lie in one plane", "draw it in a slice")
    return normal


def _within(mark: Mark, space: Space) -> Covered | None:
    outline = mark.outline
    steps = space.affine[:3, :3]
    least = min(space.spacing)
    found = plane_of(outline, 0.5 * max(space.spacing), mark.called)
    normal = np.array(mark.normal) if mark.normal is not None else found
    if abs(normal @ found) < 0.99:
        normal = found
    flat = [n for n in range(3) if space.shape[n] == 1]
    if flat and mark.normal is None and abs(_unit(steps[:, flat[-1]]) @ normal) < 0.1:
        normal = space.across(flat[-1])
    axis = lying_in(normal, space)
    if axis is not None:
        return _in_slices(mark, outline, space, axis)
    half = max(mark.depth / 2, float(np.abs(normal @ steps).sum()) / 2 * (1 - 1e-6))
    right = _unit(outline[1] - outline[0] if np.linalg.norm(outline[1] - outline[0]) > 1e-3 * least else steps[:, 0])
    right = _unit(right - (right @ normal) * normal)
    down = np.cross(normal, right)
    middle = outline.mean(0)
    ring = np.stack(((outline - middle) @ right, (outline - middle) @ down), 1)
    reach = outline[None] + half * np.array((-1.0, 1.0))[:, None, None] * normal
    box = _box(space.to_voxel(reach.reshape(-1, 3)), space)
    if box is None:
        return None
    mask = np.zeros([b - a for a, b in reversed(box)], np.uint8)
    start = space.to_world([a for a, _ in box]) - middle
    frame = np.stack((right, down, normal)) @ steps
    _fill_oblique(mask, np.stack((right, down, normal)) @ start, frame, ring, half)
    return _covered(mask, box)


def _unit(way: np.ndarray) -> np.ndarray:
    return way / max(float(np.linalg.norm(way)), 1e-30)


def _in_slices(mark: Mark, outline: np.ndarray, space: Space, axis: int) -> Covered | None:
    """In the slices of a grid that run along its plane."""
    at = space.to_voxel(outline)
    middle = float(at[:, axis].mean())
    thick = abs(float(space.across(axis) @ space.affine[:3, axis]))
    reach = max(0.5, mark.depth / 2 / thick)
    first = max(0, math.ceil(middle - reach - 1e-6))
    last = min(space.shape[axis] - 1, math.floor(middle + reach + 1e-6))
    if mark.depth <= thick * (1 + 1e-6):  # the one slice that it lies in
        first = last = math.floor(middle + 0.5 + 1e-6)
        if not 0 <= first < space.shape[axis]:
            return None
    if last < first:
        return None
    fast, slow = (n for n in range(3) if n != axis)
    box = _box(at, space, {axis: (first, last + 1)})
    if box is None:
        return None
    (fast0, fast1), (slow0, slow1) = box[fast], box[slow]
    plane = np.zeros((slow1 - slow0, fast1 - fast0), np.uint8)
    _fill_rows(plane, np.ascontiguousarray(at[:, fast] - fast0), np.ascontiguousarray(at[:, slow] - slow0))
    mask = np.repeat(np.expand_dims(plane, 2 - axis), last + 1 - first, 2 - axis)
    return _covered(np.ascontiguousarray(mask), box)


def _box(at: np.ndarray, space: Space, fixed: dict | None = None) -> list[tuple[int, int]] | None:
    """First voxel and the one behind the last that may be covered, along i, j, k."""
    low = np.maximum(np.floor(at.min(0) - 1e-6), 0)
    high = np.minimum(np.ceil(at.max(0) + 1e-6), np.array(space.shape) - 1)
    box = [(int(a), int(b) + 1) for a, b in zip(low, high)]
    for axis, ends in (fixed or {}).items():
        box[axis] = ends
    if any(b <= a for a, b in box) or math.prod(b - a for a, b in box) > MOST:
        return None
    return box


def _covered(mask: np.ndarray, box: list[tuple[int, int]]) -> Covered | None:
    return Covered(mask, (box[2][0], box[1][0], box[0][0])) if mask.any() else None


def _in_box(mark: Mark, space: Space) -> Covered | None:
    points = mark.array
    corner, ways = points[0], points[1:] - points[0]
    corners = corner + np.array(np.meshgrid([0, 1], [0, 1], [0, 1])).reshape(3, -1).T @ ways
    box = _box(space.to_voxel(corners), space)
    if box is None or abs(np.linalg.det(ways)) < 1e-30:
        return None
    turn = np.linalg.inv(ways.T)
    mask = np.zeros([b - a for a, b in reversed(box)], np.uint8)
    start = turn @ (space.to_world([a for a, _ in box]) - corner)
    steps = turn @ space.affine[:3, :3]
    i, j = np.arange(mask.shape[2]), np.arange(mask.shape[1])[:, None]
    for k in range(mask.shape[0]):
        inside = np.ones(mask.shape[1:], bool)
        for n in range(3):
            share = start[n] + steps[n, 0] * i + steps[n, 1] * j + steps[n, 2] * k
            inside &= (share >= -1e-9) & (share <= 1 + 1e-9)
        mask[k] = inside
    return _covered(mask, box)


def _share_over(a: np.ndarray, b: np.ndarray, half: float, space: Space) -> tuple[float, float]:
    """From which share of a line to which it runs over an image, or within half a width of it; (0, 0) when nowhere."""
    reach = 1.0 + half * np.linalg.norm(space.inverse[:3, :3], axis=1)
    one, other = space.to_voxel(a), space.to_voxel(b)
    way, low, high = other - one, 0.0, 1.0
    for axis in range(3):
        ends = -reach[axis], space.shape[axis] - 1 + reach[axis]
        if abs(way[axis]) < 1e-12:
            if not ends[0] <= one[axis] <= ends[1]:
                return 0.0, 0.0
            continue
        shares = sorted((end - one[axis]) / way[axis] for end in ends)
        low, high = max(low, shares[0]), min(high, shares[1])
    return (low, high) if high > low else (0.0, 0.0)


def _along(mark: Mark, space: Space) -> Covered | None:
    line = mark.outline
    half = mark.across / 2
    step = 0.25 * min(space.spacing)
    parts, apart = [line[:1]], shape_named(mark.shape).apart
    for n, (a, b) in enumerate(zip(line, line[1:]), 1):
        if n in apart:  # what leads to another line is no part of the mark
            parts.append(b[None])
            continue
        low, high = _share_over(a, b, half, space)  # a line may run on far beyond the image
        if high > low:
            a, b = a + low * (b - a), a + high * (b - a)
            count = max(1, math.ceil(float(np.linalg.norm(b - a)) / step))
            parts.append(a + (b - a) * np.arange(0, count + 1)[:, None] / count)
    points = np.concatenate(parts)
    if half <= 0:
        voxels = np.unique(np.floor(space.to_voxel(points) + 0.5).astype(np.int64), axis=0)
        voxels = voxels[((voxels >= 0) & (voxels < np.array(space.shape))).all(1)]
        if not len(voxels):
            return None
        low, high = voxels.min(0), voxels.max(0) + 1
        mask = np.zeros((high - low)[::-1], np.uint8)
        mask[tuple((voxels - low).T[::-1])] = 1
        return Covered(mask, (int(low[2]), int(low[1]), int(low[0])))
    reach = half * np.linalg.norm(space.inverse[:3, :3], axis=1)
    at = space.to_voxel(points)
    box = _box(np.stack((at.min(0) - reach, at.max(0) + reach)), space)
    if box is None:
        return None
    from scipy.spatial import cKDTree

    tree, mask = cKDTree(points), np.zeros([b - a for a, b in reversed(box)], np.uint8)
    normal = None if mark.normal is None else np.array(mark.normal)
    thick = 0.0 if normal is None else float(np.abs(normal @ space.affine[:3, :3]).sum()) / 2
    ij = np.indices((mask.shape[2], mask.shape[1])).reshape(2, -1).T + [box[0][0], box[1][0]]
    for k in range(mask.shape[0]):
        world = space.to_world(np.column_stack((ij, np.full(len(ij), k + box[2][0]))))
        hit = tree.query(world, distance_upper_bound=half * (1 + 1e-9))[0] <= half
        if normal is not None:  # it holds in its slice
            hit &= np.abs((world - points[0]) @ normal) <= max(thick, mark.depth / 2)
        mask[k] = hit.reshape(mask.shape[2], mask.shape[1]).T
    return _covered(mask, box)


@kernel
def _fill_rows(plane, x, y):
    """Pixels whose middle lies within a closed line, by crossings of each row; a middle on the line belongs when the
    inside lies to its right or below."""
    rows, columns = plane.shape
    n = x.size
    for row in range(rows):
        count = 0
        crossings = np.empty(16, np.float64)
        for a in range(n):
            b = a + 1 if a + 1 < n else 0
            if (y[a] <= row) != (y[b] <= row):
                if count == crossings.size:
                    more = np.empty(2 * count, np.float64)
                    more[:count] = crossings
                    crossings = more
                crossings[count] = x[a] + (row - y[a]) / (y[b] - y[a]) * (x[b] - x[a])
                count += 1
        found = np.sort(crossings[:count])
        for c in range(0, count - 1, 2):
            first = max(0, int(np.ceil(found[c] - 1e-9)))
            last = min(columns - 1, int(np.ceil(found[c + 1] - 1e-9)) - 1)
            for i in range(first, last + 1):
                plane[row, i] = 1


@kernel
def _fill_oblique(mask, start, frame, ring, half):
    """Voxels within half a thickness of a plane whose place in it lies within a closed line."""
    n = ring.shape[0]
    low_x, high_x, low_y, high_y = ring[:, 0].min(), ring[:, 0].max(), ring[:, 1].min(), ring[:, 1].max()
    for k in range(mask.shape[0]):
        for j in range(mask.shape[1]):
            for i in range(mask.shape[2]):
                away = start[2] + frame[2, 0] * i + frame[2, 1] * j + frame[2, 2] * k
                if not -half <= away < half:
                    continue
                x = start[0] + frame[0, 0] * i + frame[0, 1] * j + frame[0, 2] * k
                y = start[1] + frame[1, 0] * i + frame[1, 1] * j + frame[1, 2] * k
                if x < low_x or x > high_x or y < low_y or y > high_y:
                    continue
                inside = False
                for a in range(n):
                    b = a + 1 if a + 1 < n else 0
                    if (ring[a, 1] > y) != (ring[b, 1] > y):
                        at = ring[a, 0] + (y - ring[a, 1]) / (ring[b, 1] - ring[a, 1]) * (ring[b, 0] - ring[a, 0])
                        if x < at:
                            inside = not inside
                if inside:
                    mask[k, j, i] = 1
