"""Where a volume lies that was taken of the same body with the same contrast: six numbers by least squares.

Gauss and Newton's method in its inverse compositional form (S. Baker and I. Matthews, Int. J. Comput. Vis. 56, 2004):
what the reference would change by with each of the six numbers is worked out once, so that a step for a volume is one
look at it and six products. A gain and an offset are fitted along.
"""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor

import numpy as np

from ..core.errors import Trouble
from ..core.kernel import kernel
from ..core.rigid import step_matrix
from ..core.space import Space
from ..core.spline import spline_coefficients, spline_weights

MOST_POINTS = 120_000
"""Voxels of the reference that are compared; more change the result by less than the noise."""
STEPS = 40
SOFT = (2.5, 0.8)
"""Standard deviations (in voxels) of the smoothing of two levels, the coarse one first."""
CLOSE = 2e-3
"""Shift (in voxels) at the edge of the head below which a step ends the search."""


class Reference:
    """What volumes are compared with.

    Parameters
    ----------
    values : array [k, j, i]
    space : Space
    inside : bool array [k, j, i], optional
        Which voxels are compared; those of the head when left out.

    Raises
    ------
    Trouble
        When there is nothing in it to hold on to.
    """

    def __init__(self, values: np.ndarray, space: Space, inside: np.ndarray | None = None):
        self.space, self.centre = space, space.centre
        values = np.nan_to_num(values.astype(np.float32), nan=0.0, posinf=0.0, neginf=0.0)
        self.levels = [_Level(values, space, soft, inside) for soft in SOFT]
        self.radius = self.levels[-1].radius

    def find(self, values: np.ndarray, start: np.ndarray | None = None) -> np.ndarray:
        """The matrix (4, 4) that leads from a place in the reference's world to where it is found in a volume [k, j, i]
        of the same grid."""
        values = np.nan_to_num(values.astype(np.float32), nan=0.0, posinf=0.0, neginf=0.0)
        matrix = np.eye(4) if start is None else start.copy()
        for level in self.levels:
            matrix = level.find(values, matrix)
        return matrix


class _Level:
    def __init__(self, values: np.ndarray, space: Space, soft: float, inside: np.ndarray | None):
        from scipy import ndimage

        self.space, self.centre, self.soft = space, space.centre, soft
        smooth = _smoothed(values, soft)
        if inside is None:
            above = smooth[smooth > 0]
            limit = 0.25 * float(np.percentile(above, 98)) if above.size else 0.0
            inside = ndimage.binary_dilation(smooth > limit, iterations=2) if limit > 0 else np.ones(values.shape, bool)
        index = np.argwhere(inside)
        if len(index) < 50:
            raise Trouble("There is too little in the reference to compare with", "choose another reference or mask")
        index = index[:: max(1, len(index) // MOST_POINTS)]
        steep = [np.gradient(smooth, axis=n) if smooth.shape[n] > 1 else np.zeros_like(smooth) for n in range(3)]
        picked = tuple(index.T)
        by_voxel = np.stack([steep[2][picked], steep[1][picked], steep[0][picked]], 1)
        gradient = by_voxel @ space.inverse[:3, :3]  # of the world
        self.points = space.to_world(index[:, ::-1])
        away = self.points - self.centre
        turns = np.cross(away, gradient)
        self.seen = smooth[picked].astype(np.float64)
        design = np.concatenate([gradient, turns, self.seen[:, None], np.ones((len(index), 1))], 1)
        self.scale = np.maximum(np.linalg.norm(design, axis=0), 1e-12)
        normal = (design / self.scale).T @ (design / self.scale)
        if np.linalg.cond(normal[:6, :6]) > 1e12 and (np.array(space.shape) > 1).all():
            raise Trouble("The reference has no structure to hold on to", "choose another reference or mask")
        self.solve = np.linalg.pinv(normal, rcond=1e-10) @ (design / self.scale).T
        self.radius = float(np.sqrt((away**2).sum(1).mean()))
        self.voxel = np.ascontiguousarray(index[:, ::-1], np.float32)

    def find(self, values: np.ndarray, matrix: np.ndarray) -> np.ndarray:
        """Go on from a matrix until a step changes nothing any more."""
        coefficients = spline_coefficients(_smoothed(values, self.soft))
        size, last = min(self.space.spacing), float("inf")
        found, there = np.empty(len(self.points), np.float32), np.empty(len(self.points), np.uint8)
        for _ in range(STEPS):
            frame = (self.space.inverse @ matrix @ self.space.affine)[:3].astype(np.float64)
            _sample(coefficients, self.voxel, frame, found, there)
            left = np.where(there > 0, found - self.seen, 0.0)
            step = (self.solve @ left) / self.scale
            # the change of the reference by a step is that of the volume by its inverse
            matrix = matrix @ np.linalg.inv(step_matrix(step[:6] / max(1.0 + step[6], 0.2), self.centre))
            far = float(np.linalg.norm(step[:3]) + self.radius * np.linalg.norm(step[3:6]))
            if far < CLOSE * size or (far > last and far < 5 * CLOSE * size):
                break
            last = far
        return matrix


def _smoothed(values: np.ndarray, soft: float) -> np.ndarray:
    from scipy import ndimage

    return ndimage.gaussian_filter(values, [soft if n > 1 else 0 for n in values.shape], mode="nearest", truncate=3.0)


def _sample(coefficients, voxel, frame, found, there) -> None:
    half = len(voxel) // 2
    with ThreadPoolExecutor(2) as pool:
        list(
            pool.map(
                lambda ends: _points(coefficients, voxel, frame, found, there, *ends), ((0, half), (half, len(voxel)))
            )
        )


@kernel(fastmath={"contract", "reassoc", "nsz", "arcp"})
def _points(coefficients, voxel, frame, found, there, first, last):
    """Spline values at voxels moved by an affine; `there` says which lie inside the volume."""
    nk, nj, ni = coefficients.shape
    for n in range(first, last):
        i, j, k = voxel[n, 0], voxel[n, 1], voxel[n, 2]
        x = frame[0, 0] * i + frame[0, 1] * j + frame[0, 2] * k + frame[0, 3]
        y = frame[1, 0] * i + frame[1, 1] * j + frame[1, 2] * k + frame[1, 3]
        z = frame[2, 0] * i + frame[2, 1] * j + frame[2, 2] * k + frame[2, 3]
        if not (-0.5 <= x < ni - 0.5 and -0.5 <= y < nj - 0.5 and -0.5 <= z < nk - 0.5):
            there[n] = 0
            found[n] = 0.0
            continue
        there[n] = 1
        x, y, z = min(max(x, 0.0), ni - 1.0), min(max(y, 0.0), nj - 1.0), min(max(z, 0.0), nk - 1.0)
        a, b, c = int(x), int(y), int(z)
        u0, u1, u2, u3 = spline_weights(np.float32(x - a))
        v0, v1, v2, v3 = spline_weights(np.float32(y - b))
        w0, w1, w2, w3 = spline_weights(np.float32(z - c))
        a0, a2, a3 = max(a - 1, 0), min(a + 1, ni - 1), min(a + 2, ni - 1)
        total = np.float32(0.0)
        for q in range(4):
            w = w0 if q == 0 else w1 if q == 1 else w2 if q == 2 else w3
            plane = coefficients[min(max(c - 1 + q, 0), nk - 1)]
            for p in range(4):
                v = v0 if p == 0 else v1 if p == 1 else v2 if p == 2 else v3
                row = plane[min(max(b - 1 + p, 0), nj - 1)]
                total += w * v * (u0 * row[a0] + u1 * row[a] + u2 * row[a2] + u3 * row[a3])
        found[n] = total
