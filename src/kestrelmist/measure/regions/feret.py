"""How far across a region is: the longest way from one point of its border to another.

The border runs half-way between a voxel within and its neighbour without. That makes the region its voxels' middles
with an octahedron round each, so that the longest way is one between two corners of the hull of the middles, and a
whole voxel more along one axis.
"""

from __future__ import annotations

import numpy as np

from ...core.halves import in_halves
from ...core.kernel import kernel
from .sums import RegionSums

MANY = 4000
"""Corners from which on the hull of all is worked out before they are held against each other."""


def ferets(found: RegionSums, labels: np.ndarray, steps: np.ndarray) -> np.ndarray:
    """The longest way across each label.

    Parameters
    ----------
    labels : array [k, j, i]
    steps : array (3, 3)
        World vectors from voxel to voxel along k, j and i, a row each.
    """
    lengths = np.full(len(found.numbers), np.nan)
    wide = np.array([[n > 1] for n in labels.shape]) * steps

    sizes = np.prod(found.boxes[:, :2, 1] - found.boxes[:, :2, 0], axis=1)
    there = found.counts >= 1
    few = np.flatnonzero(there & (sizes <= MANY // 2))
    args = labels, found.numbers, found.boxes, np.ascontiguousarray(steps), np.ascontiguousarray(wide)
    in_halves(len(few), lambda a, b: _of_small(*args, few[a:b], lengths), int(found.counts[few].sum()))
    for n in np.flatnonzero(there & (sizes > MANY // 2)):
        corners = np.empty((2 * int(sizes[n]), 3))
        count = _corners(labels, found.numbers[n], found.boxes[n], corners)
        points = corners[:count] @ steps
        lengths[n] = _furthest(_hull(points) if count > MANY else points, wide)
    return lengths


@kernel
def _corners(labels, number, box, corners):
    """In each slice the corners of the hull of a label's voxels, by the ends of its rows; how many there are."""
    count = 0
    for k in range(box[0, 0], box[0, 1]):
        for side in (-1, 1):
            first = count
            for j in range(box[1, 0], box[1, 1]):
                i = box[2, 0] if side < 0 else box[2, 1] - 1
                while box[2, 0] <= i < box[2, 1] and labels[k, j, i] != number:
                    i -= side
                if not box[2, 0] <= i < box[2, 1]:
                    continue
                # a corner that lies within the line of its neighbours is none (the chain of a convex hull)
                while count - first >= 2:
                    dj, di = j - corners[count - 2, 1], i - corners[count - 2, 2]
                    ej = corners[count - 1, 1] - corners[count - 2, 1]
                    ei = corners[count - 1, 2] - corners[count - 2, 2]
                    if side * (ei * dj - di * ej) > 0:
                        break
                    count -= 1
                corners[count, 0], corners[count, 1], corners[count, 2] = k, j, i
                count += 1
    return count


@kernel
def _furthest(points, steps):
    """The longest of the ways between points, each a step longer along any axis."""
    best, near = 0.0, 0.0
    longest = np.sqrt((steps * steps).sum(1).max())
    for a in range(points.shape[0]):
        for b in range(a + 1):
            x = points[a, 0] - points[b, 0]
            y = points[a, 1] - points[b, 1]
            z = points[a, 2] - points[b, 2]
            if x * x + y * y + z * z < near:
                continue
            for n in range(3):
                for side in (-1, 1):
                    p, q, r = x + side * steps[n, 0], y + side * steps[n, 1], z + side * steps[n, 2]
                    if p * p + q * q + r * r > best:
                        best = p * p + q * q + r * r
                        near = max(0.0, np.sqrt(best) - longest) ** 2 * (1 - 1e-12)
    return np.sqrt(best)


@kernel
def _of_small(labels, numbers, boxes, steps, wide, which, lengths):
    for n in which:
        box = boxes[n]
        corners = np.empty((2 * (box[0, 1] - box[0, 0]) * (box[1, 1] - box[1, 0]), 3))
        count = _corners(labels, numbers[n], box, corners)
        points = np.empty((count, 3))
        for a in range(count):
            for axis in range(3):
                points[a, axis] = (
                    corners[a, 0] * steps[0, axis] + corners[a, 1] * steps[1, axis] + corners[a, 2] * steps[2, axis]
                )
        lengths[n] = _furthest(points, wide)


def _hull(points: np.ndarray) -> np.ndarray:
    """Corners of the convex hull."""
    from scipy.spatial import ConvexHull, QhullError

    centred = points - points.mean(0)
    _, sizes, ways = np.linalg.svd(centred, full_matrices=False)
    kept = ways[sizes > 1e-9 * max(sizes[0], 1e-300)]
    if len(kept) < 2:
        along = centred @ ways[0]
        return points[[int(along.argmin()), int(along.argmax())]]
    try:
        return points[ConvexHull(centred @ kept.T).vertices]
    except QhullError:
        return points
