"""The kernels that fill the animal's lattice and read it."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor

import numpy as np

from ..core.kernel import kernel
from .anatomy import tissues


@kernel
def fill_lattice(fields, bends, low, step, scale, first, last):
    out = np.empty(fields.shape[0])
    for k in range(first, last):
        for j in range(fields.shape[2]):
            for i in range(fields.shape[3]):
                x, y, z = low[0] + step * i, low[1] + step * j, low[2] + step * k
                cx, cy, cz = x + 16.5, y + 16.5, z + 16.5
                dx, dy, dz = at(bends[0], cz, cy, cx), at(bends[1], cz, cy, cx), at(bends[2], cz, cy, cx)
                tissues((x + dx) / scale[0], (y + dy) / scale[1], (z + dz) / scale[2], at(bends[3], cz, cy, cx), out)
                for n in range(fields.shape[0]):
                    fields[n, k, j, i] = out[n]


@kernel
def at(field, z, y, x):
    """Linear interpolation of a field at lattice coordinates, clamped at its faces."""
    z = min(max(z, 0.0), field.shape[0] - 1.001)
    y = min(max(y, 0.0), field.shape[1] - 1.001)
    x = min(max(x, 0.0), field.shape[2] - 1.001)
    k, j, i = int(z), int(y), int(x)
    w, v, u = z - k, y - j, x - i
    a = field[k, j, i] * (1 - u) + field[k, j, i + 1] * u
    b = field[k, j + 1, i] * (1 - u) + field[k, j + 1, i + 1] * u
    c = field[k + 1, j, i] * (1 - u) + field[k + 1, j, i + 1] * u
    d = field[k + 1, j + 1, i] * (1 - u) + field[k + 1, j + 1, i + 1] * u
    return (a * (1 - v) + b * v) * (1 - w) + (c * (1 - v) + d * v) * w


def sampled(field: np.ndarray, start: np.ndarray, steps: np.ndarray, shape: tuple[int, ...]) -> np.ndarray:
    """A field at the voxels of a grid, float32 [k, j, i].

    Parameters
    ----------
    field : array [z, y, x]
    start, steps : arrays (3,) and (3, 3)
        Lattice coordinates of voxel (0, 0, 0), and what a step along i, j, k adds to them, as columns.
    shape : tuple
        Of the result.
    """
    out = np.empty(shape, np.float32)
    with ThreadPoolExecutor(2) as pool:
        list(pool.map(lambda k: _sampled(field, start, steps, out, k), range(shape[0])))
    return out


@kernel
def _sampled(field, start, steps, out, k):
    for j in range(out.shape[1]):
        for i in range(out.shape[2]):
            x = start[0] + steps[0, 0] * i + steps[0, 1] * j + steps[0, 2] * k
            y = start[1] + steps[1, 0] * i + steps[1, 1] * j + steps[1, 2] * k
            z = start[2] + steps[2, 0] * i + steps[2, 1] * j + steps[2, 2] * k
            out[k, j, i] = at(field, z, y, x)
