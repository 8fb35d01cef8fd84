"""A label's surface block by block, so that a brush changes only the blocks that it touches."""

from __future__ import annotations

import numpy as np

from ..halves import in_halves
from ..kernel import kernel, unmarked
from ..labels import LabelMap
from .depth import ROUND, depth_of
from .march import marched

SIDE = 32
"""Voxels along a side of a block."""
CELL = 8
"""Voxels along a side of the cells in which changes are looked for: as far as a change is felt."""
Block = tuple[int, int, int]
"""Number of a block along i, j, k."""


def states_of(labels: LabelMap, number: int) -> np.ndarray:
    """A number for each cell of a grid (k, j, i), CELL voxels a side, that tells which of its voxels a label has,
    int64; 0 for none."""
    sizes = [-(-n // CELL) for n in labels.kji.shape]
    found = np.zeros(sizes, np.int64)
    kji = unmarked(labels.kji)
    in_halves(sizes[0], lambda a, b: _states(kji, number, a, b, found), kji.size)
    return found


def changed_blocks(before: np.ndarray, after: np.ndarray) -> list[Block]:
    """Blocks whose surface may be another one: those in which, or within ROUND voxels of which, something changed."""
    changed = np.argwhere(before != after)
    if not len(changed):
        return []
    each = SIDE // CELL
    last = -(-np.array(before.shape) // each) - 1
    near = [changed + np.array(step) for step in np.ndindex(3, 3, 3)]
    blocks = np.unique((np.concatenate(near) - 1) // each, axis=0)
    sound = ((blocks >= 0) & (blocks <= last)).all(axis=1)
    return [(int(i), int(j), int(k)) for k, j, i in blocks[sound]]


def block_surface(labels: LabelMap, number: int, block: Block) -> tuple[np.ndarray, np.ndarray]:
    """Corners (n, 3) in the world and triangles (m, 3) of a label's surface within a block, up to the block's ends.

    It is the zero of the smoothed depth; two blocks beside each other have the same corners where they meet.
    """
    shape = np.array(labels.kji.shape)
    low = np.array(block[::-1]) * SIDE
    # cells lie between voxels: the first block begins before the first voxel, so that it is closed there
    first = np.where(low == 0, -1, low)
    last = np.minimum(low + SIDE, shape)
    start, stop = np.maximum(first - ROUND, 0), np.minimum(last + ROUND + 1, shape)
    part = labels.kji[tuple(slice(a, b) for a, b in zip(start, stop))] == number
    if not part.any():
        return np.zeros((0, 3)), np.zeros((0, 3), np.int32)
    pad = [
        (max(0, int(a - (f - ROUND))), max(0, int(e + ROUND + 1 - b))) for a, f, e, b in zip(start, first, last, stop)
    ]
    mask = np.pad(part, pad).astype(np.uint8)
    steps = np.array(labels.space.spacing[::-1])
    depth = depth_of(mask, tuple(steps / steps.min()), 0, mask.shape[0])
    inner = depth[tuple(slice(ROUND, n - ROUND) for n in depth.shape)]
    corners, triangles, _, _ = marched(np.ascontiguousarray(inner))
    world = labels.space.to_world(corners + np.asarray(first, float)[::-1])
    if np.linalg.det(labels.space.affine[:3, :3]) < 0:
        triangles = triangles[:, ::-1]
    return world, np.ascontiguousarray(triangles)


@kernel
def _states(labels, number, start, end, found):
    nk, nj, ni = labels.shape
    for c in range(start, end):
        for k in range(c * CELL, min((c + 1) * CELL, nk)):
            for j in range(nj):
                row = np.int64((k * 7919 + j) * 104729 + 1)
                for a in range(found.shape[2]):
                    first = a * CELL
                    bits = 0
                    for i in range(min(CELL, ni - first)):
                        bits |= (labels[k, j, first + i] == number) << i
                    found[c, j // CELL, a] += bits * (row * row * 31 + row * 1009 + 1)
