"""Painting with a disc or a ball, in any plane, at a size in millimetres."""

from __future__ import annotations

import math
from dataclasses import dataclass, field

import numpy as np

from ..core.errors import Trouble
from ..core.image import Image
from ..core.kernel import kernel
from ..core.labels import LabelMap
from ..core.on_grid import require_same_grid
from ..core.patch import LabelEdit, patch_from_runs

ROOM = 1 << 20
"""Voxels that are painted at a time, so that a wide brush on a huge picture takes no memory of its width."""
NO_VALUES = np.zeros((1, 1, 1), np.int16)


@dataclass(frozen=True)
class Brush:
    """What a stroke paints with.

    Parameters
    ----------
    diameter : float
        In mm.
    shape : "ball" or "disc"
        A disc is one voxel thick and lies in the plane it is used in.
    low, high : float, optional
        Paint only voxels whose image value lies between these.
    over : int, optional
        Paint only over this label; 0 for free voxels. Over all that are not locked when left out.
    """

    diameter: float
    shape: str = "ball"
    low: float | None = None
    high: float | None = None
    over: int | None = None


@dataclass
class Stroke:
    """One gesture of a brush: paints at once, remembers what was there, becomes one edit.

    Parameters
    ----------
    number : int
        Label to paint; 0 erases.
    erase_only : int
        When erasing, change only this label; 0 for all that are not locked.
    normal : three floats
        World direction across the plane of a disc.
    """

    image: Image
    labels: LabelMap
    brush: Brush
    number: int
    normal: tuple[float, float, float] = (0.0, 0.0, 1.0)
    erase_only: int = 0
    _runs: list[tuple[np.ndarray, np.ndarray, np.ndarray]] = field(default_factory=list)
    """Starts and lengths of painted runs, and the numbers that were there, part by part."""
    _last: np.ndarray | None = None

    def __post_init__(self):
        if self.number and self.number not in self.labels.table:
            raise Trouble("There is no label to paint with", "make a label first")
        for number in (self.number, self.erase_only):
            if number:
                self.labels.require_unlocked(self.labels.table[number])
        if self.brush.low is not None:
            require_same_grid(self.image, self.labels)  # the kernel looks up values by the labels' voxels
        if not 0 < self.brush.diameter < 1e4:
            raise Trouble(f"A brush of {self.brush.diameter:g} mm is no use", "give a size above 0 mm")
        self._allowed = self.labels.writable()
        self._allowed[self.number] = 0
        if self.number and self.brush.over is not None:
            keep = self._allowed[self.brush.over]
            self._allowed[:] = 0
            self._allowed[self.brush.over] = keep
        if self.erase_only:
            keep = self._allowed[self.erase_only]
            self._allowed[:] = 0
            self._allowed[self.erase_only] = keep

    def to(self, world) -> int:
        """Paint from the last place to this one; returns how many voxels changed."""
        world = np.asarray(world, float)
        start = world if self._last is None else self._last
        self._last = world
        space = self.labels.space
        radius = self.brush.diameter / 2
        normal = np.asarray(self.normal, float) / np.linalg.norm(self.normal)
        flat = self.brush.shape == "disc"
        # half the extent of a voxel across the plane: exactly one layer of voxels qualifies
        half = float(np.abs(normal @ (space.affine[:3, :3] / np.array(space.spacing))) @ np.array(space.spacing)) / 2
        box = self._box(start, world, radius)
        size = math.prod(max(0, hi - lo) for lo, hi in box)
        if size == 0:
            return 0
        width = box[0][1] - box[0][0]
        room = max(width, min(size, ROOM))
        starts, lengths, old = np.empty(room, np.int64), np.empty(room, np.int32), np.empty(room, np.uint16)
        ranged = self.brush.low is not None
        painted, row = 0, 0
        while row < size // width:
            runs, n, row = _paint(
                self.labels.kji,
                self.image.kji if ranged else NO_VALUES,
                ranged,
                self.brush.low if ranged else 0.0,
                self.brush.high if ranged else 0.0,
                np.array(box, np.int64),
                space.affine,
                start,
                world,
                radius,
                flat,
                normal,
                half * 0.999999,
                self.number,
                self._allowed,
                row,
                starts,
                lengths,
                old,
            )
            if n:
                self._note(starts[:runs].copy(), lengths[:runs].copy(), old[:n].copy())
                painted += int(n)
        return painted

    def _note(self, starts: np.ndarray, lengths: np.ndarray, old: np.ndarray) -> None:
        self._runs.append((starts, lengths, old))
        found = np.bincount(old)
        self.labels.counts[: found.size] -= found
        self.labels.counts[self.number] += old.size
        self.labels.revision[np.flatnonzero(found)] += 1
        self.labels.revision[self.number] += 1

    def _box(self, start, end, radius):
        space = self.labels.space
        a, b = space.to_voxel(start), space.to_voxel(end)
        # half width of a ball in voxels along each grid axis, right for oblique and sheared grids too
        reach = radius * np.linalg.norm(space.inverse[:3, :3], axis=1) + 1
        low = np.clip(np.floor(np.minimum(a, b) - reach), 0, space.shape).astype(int)
        high = np.clip(np.ceil(np.maximum(a, b) + reach) + 1, 0, space.shape).astype(int)
        return list(zip(low.tolist(), high.tolist()))

    def finish(self, title: str = "") -> LabelEdit:
        """The stroke as an edit that has been applied already."""
        if not self._runs:
            return LabelEdit(title)
        starts, lengths, old = (np.concatenate(parts) for parts in zip(*self._runs))
        return LabelEdit(title, patch_from_runs(starts, lengths, old, self.number))


@kernel
def _paint(
    labels,
    values,
    ranged,
    low,
    high,
    box,
    affine,
    start,
    end,
    radius,
    flat,
    normal,
    half,
    number,
    allowed,
    row,
    starts,
    lengths,
    old,
):
    """Paint the voxels within `radius` of the segment from start to end (world, mm), from a row of the box on until the
    room for runs is used up; returns runs, voxels and the next row."""
    n, runs = 0, 0
    width, deep = box[0, 1] - box[0, 0], box[1, 1] - box[1, 0]
    sx, sy, sz = end[0] - start[0], end[1] - start[1], end[2] - start[2]
    if flat:  # distances count within the plane only
        along = sx * normal[0] + sy * normal[1] + sz * normal[2]
        sx, sy, sz = sx - along * normal[0], sy - along * normal[1], sz - along * normal[2]
    length2 = sx * sx + sy * sy + sz * sz
    while row < deep * (box[2, 1] - box[2, 0]) and n + width <= old.size:
        k, j = box[2, 0] + row // deep, box[1, 0] + row % deep
        row += 1
        last = -2
        for i in range(box[0, 0], box[0, 1]):
            x = affine[0, 0] * i + affine[0, 1] * j + affine[0, 2] * k + affine[0, 3] - start[0]
            y = affine[1, 0] * i + affine[1, 1] * j + affine[1, 2] * k + affine[1, 3] - start[1]
            z = affine[2, 0] * i + affine[2, 1] * j + affine[2, 2] * k + affine[2, 3] - start[2]
            if flat:
                away = x * normal[0] + y * normal[1] + z * normal[2]
                if abs(away) > half:
                    continue
                x, y, z = x - away * normal[0], y - away * normal[1], z - away * normal[2]
            t = 0.0
            if length2 > 0.0:
                t = min(max((x * sx + y * sy + z * sz) / length2, 0.0), 1.0)
            dx, dy, dz = x - t * sx, y - t * sy, z - t * sz
            if dx * dx + dy * dy + dz * dz > radius * radius or not allowed[labels[k, j, i]]:
                continue
            if ranged and not low <= values[k, j, i] <= high:
                continue
            if i == last + 1:
                lengths[runs - 1] += 1
            else:
                starts[runs] = (k * labels.shape[1] + j) * np.int64(labels.shape[2]) + i
                lengths[runs] = 1
                runs += 1
            last = i
            old[n] = labels[k, j, i]
            labels[k, j, i] = number
            n += 1
    return runs, n, row
