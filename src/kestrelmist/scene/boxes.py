"""What is drawn as boxes in the Solid view: voxels, or cells, and the faces that close round them."""

from __future__ import annotations

import numpy as np

MOST_FACES = 600_000


def box_faces(thin: np.ndarray, affine: np.ndarray) -> np.ndarray:
    """Corners of the faces of voxels that no other one of them touches, [n, 4, xyz]: boxes as large as they are."""
    if not len(thin):
        return np.zeros((0, 4, 3))
    whole = thin.astype(np.int64) - thin.min(0) + 1
    size = whole.max(0) + 2
    steps = np.array([1, size[0], size[0] * size[1]])
    numbers = np.sort(whole @ steps)
    found = []
    for axis in range(3):
        others = [a for a in range(3) if a != axis]
        for side in (-1, 1):
            beside = whole @ steps + side * steps[axis]
            at = np.minimum(np.searchsorted(numbers, beside), len(numbers) - 1)
            bare = thin[numbers[at] != beside].astype(float)
            corners = np.repeat(bare[:, None], 4, 1)
            corners[..., axis] += side * 0.5
            corners[..., others[0]] += np.array([-0.5, 0.5, 0.5, -0.5])
            corners[..., others[1]] += np.array([-0.5, -0.5, 0.5, 0.5])
            # seen from outside the corners go round one way
            found.append(corners if (side > 0) == (axis != 1) else corners[:, ::-1])
    return np.concatenate(found) @ affine[:3, :3].T + affine[:3, 3]


def cell_faces(cells: np.ndarray, affine: np.ndarray) -> np.ndarray:
    """The same of cells, [k, j, i]; of very many, in steps of twice their size until there are few enough."""
    while True:
        whole = np.pad(cells, 1)
        bare = sum(int(np.count_nonzero(np.diff(whole, axis=axis))) for axis in range(3))
        if bare <= MOST_FACES or min(cells.shape) < 2:
            return box_faces(np.argwhere(cells)[:, ::-1].astype(np.int32), affine)
        even = np.pad(cells, [(0, n % 2) for n in cells.shape])
        k, j, i = (n // 2 for n in even.shape)
        cells = np.asarray(even.reshape(k, 2, j, 2, i, 2).any((1, 3, 5)))
        affine = affine.copy()
        affine[:3, 3] += affine[:3, :3] @ (0.5, 0.5, 0.5)
        affine[:3, :3] *= 2
