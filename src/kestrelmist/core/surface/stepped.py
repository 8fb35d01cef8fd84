"""The surface of a mask as its voxels lie: the sides of voxels behind which there is none."""

from __future__ import annotations

import numpy as np

CORNERS = {
    0: ((0, 0, 0), (0, 1, 0), (0, 1, 1), (0, 0, 1)),
    1: ((0, 0, 0), (0, 0, 1), (1, 0, 1), (1, 0, 0)),
    2: ((0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0)),
}
"""Of a side across each of (i, j, k), anticlockwise as seen from the higher end."""


def stepped_faces(mask: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Corners (n, 3) as (i, j, k), half a voxel round the voxels, and triangles (m, 3) of a mask [k, j, i]."""
    there = np.pad(mask != 0, 1)
    shape = np.array(there.shape)
    sides = []
    for axis in range(3):  # of (i, j, k)
        along = 2 - axis
        low = np.take(there, np.arange(shape[along] - 1), along)
        high = np.take(there, np.arange(1, shape[along]), along)
        for outward, found in ((True, low & ~high), (False, high & ~low)):
            k, j, i = np.nonzero(found)
            at = np.stack((i, j, k), 1)
            at[:, axis] += 1
            corners = at[:, None, :] + np.array(CORNERS[axis] if outward else CORNERS[axis][::-1])
            sides.append(corners)
    corners = np.concatenate(sides).reshape(-1, 3)
    sizes = shape[::-1] + 1
    flat = (corners[:, 2] * sizes[1] + corners[:, 1]) * sizes[0] + corners[:, 0]
    known, first, which = np.unique(flat, return_index=True, return_inverse=True)
    places = corners[first].astype(np.float64) - 1.5
    four = which.reshape(-1, 4)
    triangles = np.concatenate((four[:, [0, 1, 2]], four[:, [0, 2, 3]])).astype(np.int32)
    return places, triangles
