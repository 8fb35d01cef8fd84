"""Where a ray meets triangles first."""

from __future__ import annotations

import numpy as np

from ...core.kernel import kernel


def first_hit(
    corners: np.ndarray, triangles: np.ndarray, place: np.ndarray, ahead: np.ndarray, planes: np.ndarray
) -> float:
    """How far along a ray triangles are met first, where they lie before planes; infinity for never.

    T. Möller, B. Trumbore, J. Graphics Tools 2, 1997.

    Parameters
    ----------
    corners : array (n, 3)
    triangles : int32 array (m, 3)
    place, ahead : arrays (3,)
        Where the ray begins, and its direction of length 1.
    planes : float64 array (p, 4)
        What is met has n·x ≥ d for each.
    """
    found = _first(
        np.ascontiguousarray(corners, np.float64),
        np.ascontiguousarray(triangles, np.int32),
        np.asarray(place, np.float64),
        np.asarray(ahead, np.float64),
        np.ascontiguousarray(planes, np.float64).reshape(-1, 4),
    )
    return float(found) if found < 1e29 else np.inf


@kernel
def _first(corners, triangles, place, ahead, planes):
    nearest = 1e30
    for n in range(triangles.shape[0]):
        a, b, c = triangles[n, 0], triangles[n, 1], triangles[n, 2]
        ux, uy, uz = corners[b, 0] - corners[a, 0], corners[b, 1] - corners[a, 1], corners[b, 2] - corners[a, 2]
        vx, vy, vz = corners[c, 0] - corners[a, 0], corners[c, 1] - corners[a, 1], corners[c, 2] - corners[a, 2]
        px, py, pz = ahead[1] * vz - ahead[2] * vy, ahead[2] * vx - ahead[0] * vz, ahead[0] * vy - ahead[1] * vx
        slope = ux * px + uy * py + uz * pz
        if slope == 0:
            continue
        wx, wy, wz = place[0] - corners[a, 0], place[1] - corners[a, 1], place[2] - corners[a, 2]
        u = (wx * px + wy * py + wz * pz) / slope
        if u < 0 or u > 1:
            continue
        qx, qy, qz = wy * uz - wz * uy, wz * ux - wx * uz, wx * uy - wy * ux
        v = (ahead[0] * qx + ahead[1] * qy + ahead[2] * qz) / slope
        if v < 0 or u + v > 1:
            continue
        t = (vx * qx + vy * qy + vz * qz) / slope
        if t <= 0 or t >= nearest:
            continue
        seen = True
        for m in range(planes.shape[0]):
            height = -planes[m, 3]
            for k in range(3):
                height += planes[m, k] * (place[k] + t * ahead[k])
            seen = seen and height >= 0
        if seen:
            nearest = t
    return nearest
