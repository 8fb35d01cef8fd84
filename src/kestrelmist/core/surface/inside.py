"""Which voxels lie within closed surfaces."""

from __future__ import annotations

import numpy as np

from ..kernel import kernel
from ..space import Space
from .surface import Surface

ASIDE = (1.3e-7, 2.7e-7)
"""Voxels by which rows are led past corners and edges of triangles, so that each is met once or not at all."""


def voxels_within(surface: Surface, space: Space) -> tuple[np.ndarray, tuple[slice, slice, slice]]:
    """Voxels whose middles a closed surface encloses: bool [k, j, i] of a part of the grid, and that part.

    Along each row of voxels the triangles that it goes through are counted, by the side from which it meets them: what
    has been entered once more than left is inside.
    """
    places = space.to_voxel(surface.corners)
    shape = space.shape[::-1]
    low = np.clip(np.floor(places.min(0)).astype(int), 0, None)[::-1]
    high = np.minimum(np.ceil(places.max(0)).astype(int)[::-1] + 1, shape)
    if np.any(high <= low):
        none = (slice(0, 0), slice(0, 0), slice(0, 0))
        return np.zeros((0, 0, 0), bool), none
    box = (slice(low[0], high[0]), slice(low[1], high[1]), slice(low[2], high[2]))
    turns = np.zeros(high - low + (0, 0, 1), np.int16)
    _cross(np.ascontiguousarray(places - low[::-1]), surface.triangles, turns)
    return np.cumsum(turns[:, :, :-1], axis=2, dtype=np.int16) != 0, box


@kernel
def _cross(corners, triangles, turns):
    nk, nj, ni = turns.shape
    for n in range(triangles.shape[0]):
        a, b, c = triangles[n, 0], triangles[n, 1], triangles[n, 2]
        ya, yb, yc = corners[a, 1] - ASIDE[0], corners[b, 1] - ASIDE[0], corners[c, 1] - ASIDE[0]
        za, zb, zc = corners[a, 2] - ASIDE[1], corners[b, 2] - ASIDE[1], corners[c, 2] - ASIDE[1]
        double = (yb - ya) * (zc - za) - (yc - ya) * (zb - za)
        if double == 0:
            continue
        sign = 1 if double > 0 else -1
        first_j, last_j = max(int(np.ceil(min(ya, yb, yc))), 0), min(int(np.floor(max(ya, yb, yc))), nj - 1)
        first_k, last_k = max(int(np.ceil(min(za, zb, zc))), 0), min(int(np.floor(max(za, zb, zc))), nk - 1)
        for k in range(first_k, last_k + 1):
            for j in range(first_j, last_j + 1):
                u = ((yb - j) * (zc - k) - (yc - j) * (zb - k)) * sign
                v = ((yc - j) * (za - k) - (ya - j) * (zc - k)) * sign
                w = ((ya - j) * (zb - k) - (yb - j) * (za - k)) * sign
                if u < 0 or v < 0 or w < 0:
                    continue
                x = (u * corners[a, 0] + v * corners[b, 0] + w * corners[c, 0]) / (u + v + w)
                turns[k, j, min(max(int(np.ceil(x)), 0), ni - 1)] += sign
