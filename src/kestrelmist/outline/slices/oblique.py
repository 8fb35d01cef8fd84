"""What lies between slices that were drawn across the grid, in planes that its own slices do not lie in."""

from __future__ import annotations

from functools import cached_property

import numpy as np

from ...core.errors import Trouble
from ...core.halves import in_halves
from ...core.kernel import kernel
from ...core.progress import Progress
from ...core.space import Space
from .between import Drawn
from .flat_distance import signed_distance
from .sheets import Sheets, nearest_axis
from .stack import NOWHERE, Stack

FAR = -1e5
"""In thicknesses: below any field, and above a mixture with what is nowhere."""
BESIDE = 0.2
"""Share of its thickness by which the middle of a layer may be known wrongly."""
MOST = 1 << 29
"""Places that are worked on at most."""


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
def _laid(field, ways, start, away, half, far, made, first, last):
    """A field [layer, row, column] at the voxels of a grid, mixed of eight; nothing in drawn slices."""
    layers, rows, columns = field.shape
    for k in range(first, last):
        for j in range(made.shape[1]):
            for i in range(made.shape[2]):
                made[k, j, i] = NOWHERE
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
                mixed = (one - w) * low + w * high
                if mixed > far:  # where one of the eight is nowhere, so is this
                    made[k, j, i] = mixed


class AcrossGrid(Stack):
    """Slices of a mask [k, j, i] across any direction; they are worked on in steps of half their thickness. Lengths
    along the stack count from the first of them.

    `corner` is the first voxel (k, j, i) of the mask in the grid.
    """

    def __init__(self, mask: np.ndarray, corner: tuple[int, int, int], one: Sheets, space: Space):
        super().__init__()
        self.mask = mask
        self.thick, self.step = one.thick * (1 + 1e-6), one.thick / 2
        sides = space.affine[:3, :3] / np.array(space.spacing)
        nearest = int(np.abs(one.normal @ sides).argmin())
        right = sides[:, nearest] - (sides[:, nearest] @ one.normal) * one.normal
        right /= np.linalg.norm(right)
        down = np.cross(one.normal, right)
        # pixels are as long as voxels are along the axes of the grid that lie nearest
        leaning = np.abs(down @ sides)
        leaning[nearest] = -1
        self.spacing = space.spacing[nearest], space.spacing[int(leaning.argmax())]
        frame = np.stack((one.normal, right, down))
        self.ways = (frame @ space.affine[:3, :3])[:, ::-1]  # what a step along k, j, i is along the frame
        self.nearest = 2 - nearest_axis(one.normal, space)
        self.start = frame @ space.to_world(np.array(corner[::-1]))
        self.start[0] -= one.at[0]
        self.at = np.array(one.at) - one.at[0]

    @cached_property
    def places(self) -> np.ndarray:
        k, j, i = (
            np.float32(way) * np.arange(n, dtype=np.float32).reshape([-1 if m == axis else 1 for m in range(3)])
            for axis, (way, n) in enumerate(zip(self.ways[0], self.mask.shape))
        )
        return np.float32(self.start[0]) + k + j + i

    @cached_property
    def away(self) -> np.ndarray:
        found = np.empty(self.mask.shape, np.float32)
        given = self.ways[0], self.start[0], self.at, found
        in_halves(len(found), lambda a, b: _nearest(*given, a, b), found.size)
        return found

    def field(self, round_ends: bool, progress: Progress) -> np.ndarray:
        flat, shape = self._flat()
        numbers = np.round(self.at / self.step).astype(int)
        before, after = int(numbers[1] - numbers[0]), int(numbers[-1] - numbers[-2])
        layers = before + int(numbers[-1]) + 1 + after
        if layers * shape[0] * shape[1] > MOST:
            raise Trouble("The label is too large to be bridged askew to its grid", "crop the image first")
        drawn = [Drawn(float(n * self.step), self._slice(at, flat, shape)) for n, at in zip(numbers, self.at)]
        found = np.full((layers, *shape), NOWHERE)
        for first, slab in self.between(drawn, round_ends, progress):
            low, high = max(0, -first - before), min(len(slab.values), layers - first - before)
            if high > low:
                part = found[before + first + low : before + first + high, slab.box[0], slab.box[1]]
                np.maximum(part, slab.values[low:high], out=part)
        for n, one in zip(numbers, drawn):
            found[before + n] = signed_distance(one.mask, self.spacing)
        made = np.empty(self.mask.shape, np.float32)
        scale = np.array((self.step, *self.spacing))
        ways, start = self.ways / scale[:, None], (self.start - np.array((0.0, *flat))) / scale
        start[0] += before
        given = found, ways, start, self.away, np.float32(self.thick / 2), np.float32(FAR * self.thick), made
        in_halves(len(made), lambda a, b: _laid(*given, a, b), made.size)
        return made

    def _flat(self) -> tuple[np.ndarray, tuple[int, int]]:
        """Where the planes' first pixel lies along right and down, and how many rows and columns they have: round what
        is drawn, with room for shapes that are larger between."""
        used = np.argwhere(self.mask)
        across = self.start[1:] + used @ self.ways[1:].T
        low, high = across.min(0), across.max(0)
        pixel = np.array(self.spacing)
        room = np.maximum((high - low) / 3, 8 * pixel)
        rows, columns = np.ceil((high - low + 2 * room) / pixel).astype(int) + 1
        return low - room, (int(rows), int(columns))

    def _slice(self, at: float, flat: np.ndarray, shape: tuple[int, int]) -> np.ndarray:
        """What is drawn where a plane runs through the grid: in the voxel there, or in one beside it of the layer that
        was drawn, whose middle is known to a fraction of a voxel only."""
        rows, columns = (flat[n] + np.arange(shape[n]) * self.spacing[n] for n in range(2))
        y, x = np.meshgrid(rows, columns, indexing="ij")
        offset = np.stack((np.full(y.shape, at), y, x), -1) - self.start
        voxel = np.round(offset @ np.linalg.inv(self.ways).T).astype(int)
        beside = np.zeros(3, int)
        beside[self.nearest] = 1
        found = np.zeros(shape, bool)
        for one in (voxel, voxel + beside, voxel - beside):
            within = ((one >= 0) & (one < self.mask.shape)).all(-1)
            within &= np.abs(one @ self.ways[0] + self.start[0] - at) <= self.thick / 2 + BESIDE * self.thick
            found[within] |= self.mask[tuple(one[within].T)]
        return found

    def stretches(self, corner: tuple[int, int, int]) -> list[tuple[int, int, int]]:
        """What is filled, as slices of the grid that lie nearest to the planes: its axis, the first and the last."""
        axis = self.nearest
        used = np.argwhere(self.mask).mean(0)
        middle = self.start[0] + self.ways[0] @ used
        found = []
        for low, high in self.filled:
            ends = sorted(used[axis] + (p - middle) / self.ways[0, axis] for p in (low, high))
            a, b = max(0, int(np.ceil(ends[0]))), min(self.mask.shape[axis] - 1, int(np.floor(ends[1])))
            if a <= b:
                found.append((2 - axis, corner[axis] + a, corner[axis] + b))
        return found
