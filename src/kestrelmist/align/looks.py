"""A moving image looked at where places of the fixed one are mapped to: values, and how steep they are there."""

from __future__ import annotations

import numpy as np

from ..core.cell import cell, within
from ..core.halves import in_halves
from ..core.kernel import kernel
from ..core.space import Space


class Looks:
    """A moving volume, for places about a centre.

    Parameters
    ----------
    volume : float32 array [k, j, i]
        NaN where it has no value, or where a mask leaves it out.
    space : Space
        Its grid.
    places : float32 array (n, 3)
        Places of the fixed image's world, mm from `centre`.
    centre : three mm
    """

    def __init__(self, volume: np.ndarray, space: Space, places: np.ndarray, centre: np.ndarray):
        self.volume, self.places = np.ascontiguousarray(volume, np.float32), places
        self.to_voxel, self.centre = space.inverse, np.asarray(centre, float)
        count = len(places)
        self.found, self.inside = np.empty(count, np.float32), np.empty(count, np.uint8)
        self.steep = np.empty((count, 3), np.float32)

    def frame(self, matrix: np.ndarray) -> np.ndarray:
        """Voxel coordinates of the moving image for places about the centre, (3, 4), by a matrix (4, 4) from the fixed
        world to the moving one."""
        whole = self.to_voxel @ matrix
        made = whole[:3].copy()
        made[:, 3] = whole[:3, :3] @ self.centre + whole[:3, 3]
        return made

    def slope(self, by_frame: np.ndarray, changes: np.ndarray) -> np.ndarray:
        """By how much a cost grows with each of n numbers, from how it grows with the frame (3, 4) and how the matrix
        changes with them (n, 4, 4)."""
        turned = self.to_voxel[:3, :3] @ changes[:, :3]
        turned[:, :, 3] += turned[:, :, :3] @ self.centre
        return np.einsum("ab,nab->n", by_frame, turned)

    def look(self, matrix: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Values (n,) and which of them lie inside (n,), by a matrix."""
        frame = self.frame(matrix)
        given = self.volume, frame, self.places, self.found, self.steep, self.inside
        in_halves(len(self.found), lambda first, last: _look(*given, first, last))
        return self.found, self.inside

    def pulled(self, slope: np.ndarray) -> np.ndarray:
        """By how much a cost grows with each number of the frame (3, 4), from how it grows with each value (n,)."""
        parts = np.zeros((2, 3, 4))
        given = self.places, self.steep, slope
        in_halves(len(slope), lambda first, last: _pulled(*given, parts[int(first > 0)], first, last))
        return parts.sum(0)


@kernel(fastmath={"contract", "reassoc", "nsz", "arcp"})
def _look(volume, frame, places, found, steep, inside, first, last):
    nk, nj, ni = volume.shape
    for n in range(first, last):
        p, q, r = places[n, 0], places[n, 1], places[n, 2]
        x = frame[0, 0] * p + frame[0, 1] * q + frame[0, 2] * r + frame[0, 3]
        y = frame[1, 0] * p + frame[1, 1] * q + frame[1, 2] * r + frame[1, 3]
        z = frame[2, 0] * p + frame[2, 1] * q + frame[2, 2] * r + frame[2, 3]
        inside[n] = 0
        found[n] = 0.0
        steep[n, 0] = steep[n, 1] = steep[n, 2] = 0.0
        if not within(x, y, z, ni, nj, nk):
            continue
        (a, d, u), (b, e, v), (c, f, w) = cell(x, ni), cell(y, nj), cell(z, nk)
        v000, v001 = volume[c, b, a], volume[c, b, d]
        v010, v011 = volume[c, e, a], volume[c, e, d]
        v100, v101 = volume[f, b, a], volume[f, b, d]
        v110, v111 = volume[f, e, a], volume[f, e, d]
        x00, x01 = v000 + u * (v001 - v000), v010 + u * (v011 - v010)
        x10, x11 = v100 + u * (v101 - v100), v110 + u * (v111 - v110)
        y0, y1 = x00 + v * (x01 - x00), x10 + v * (x11 - x10)
        value = y0 + w * (y1 - y0)
        if not value == value:
            continue
        inside[n] = 1
        found[n] = value
        s0, s1 = v001 - v000 + v * (v011 - v010 - v001 + v000), v101 - v100 + v * (v111 - v110 - v101 + v100)
        steep[n, 0] = s0 + w * (s1 - s0)
        steep[n, 1] = x01 - x00 + w * (x11 - x10 - x01 + x00)
        steep[n, 2] = y1 - y0


@kernel(fastmath=True)
def _pulled(places, steep, slope, out, first, last):
    for n in range(first, last):
        s = slope[n]
        if s == 0.0:
            continue
        for a in range(3):
            pull = np.float64(s * steep[n, a])
            out[a, 0] += pull * places[n, 0]
            out[a, 1] += pull * places[n, 1]
            out[a, 2] += pull * places[n, 2]
            out[a, 3] += pull
