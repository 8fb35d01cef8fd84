"""A label's surface block by block, so that a brush changes only the blocks that it touches."""

from __future__ import annotations

import numpy as np

from ..halves import in_halves
from ..kernel import kernel, unmarked
from ..labels import LabelMap
from .depth import ROUND, depth_of
from .march import marched

SIDE = 48
"""Voxels along a side of a block."""
Block = tuple[int, int, int]
"""Number of a block along i, j, k."""


def states_of(labels: LabelMap, number: int) -> np.ndarray:
    """A number for each block of a grid (k, j, i) that tells which of its voxels a label has, int64; 0 for none."""
    sizes = [-(-n // SIDE) for n in labels.kji.shape]
    found = np.zeros(sizes, np.int64)
    kji = unmarked(labels.kji)
    in_halves(sizes[0], lambda a, b: _states(kji, number, a, b, found), kji.size)
    return found


def changed_blocks(before: np.ndarray, after: np.ndarray) -> list[Block]:
    """Blocks whose surface may be another one: those that have changed, and those beside them."""
    changed = before != after
    wide = changed.copy()
    for axis in range(3):
        ahead, behind = [slice(None)] * 3, [slice(None)] * 3
        ahead[axis], behind[axis] = slice(1, None), slice(None, -1)
        near = wide.copy()
        wide[tuple(ahead)] |= near[tuple(behind)]
        wide[tuple(behind)] |= near[tuple(ahead)]
    # what is far from any voxel of the label has no surface
    return [(int(i), int(j), int(k)) for k, j, i in np.argwhere(wide)]


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
    for c in range(start, end):
        for b in range(found.shape[1]):
            for a in range(found.shape[2]):
                state = np.int64(0)  # a sum, whose terms do not wait for one another
                for k in range(c * SIDE, min((c + 1) * SIDE, labels.shape[0])):
                    for j in range(b * SIDE, min((b + 1) * SIDE, labels.shape[1])):
                        row = np.int64((k * 7919 + j) * 104729 + 1)
                        for i in range(a * SIDE, min((a + 1) * SIDE, labels.shape[2])):
                            place = row + i
                            state += (place * place * 31 + place * 1009) * (labels[k, j, i] == number)
                found[c, b, a] = state
