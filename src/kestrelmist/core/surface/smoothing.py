"""Closed triangles made smooth, kept near where they were, and brought to a volume."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from ..halves import in_halves
from ..kernel import kernel

BANDS = ((800, 0.1, 20), (3000, 0.05, 30), (0, 0.02, 50))
"""Up to so many corners (0 for any), which frequencies pass, and times: what is small has no room for long waves."""


def smoothed(
    corners: np.ndarray,
    triangles: np.ndarray,
    most: float,
    held: np.ndarray | None = None,
    stop: Callable[[], object] = lambda: None,
) -> np.ndarray:
    """Corners after a low-pass filter that keeps the volume, none of them further than `most` from where it was.

    A windowed sinc of the Laplacian in Chebyshev polynomials (G. Taubin, T. Zhang, G. Golub, ECCV 1996).

    Parameters
    ----------
    corners : float32 array (n, 3)
    triangles : int32 array (m, 3)
        Of closed surfaces.
    held : uint8 array (n,), optional
        Corners that are moved inward alone.
    stop : callable
        Called between passes; may raise.
    """
    band, times = next((b, t) for limit, b, t in BANDS if len(corners) < limit or not limit)
    first, beside = neighbours(triangles, len(corners))
    angle = np.arccos(1 - band / 2)
    n = np.arange(1, times + 1)
    window = 0.54 + 0.46 * np.cos(np.pi * n / (times + 1))
    shares = np.concatenate(([angle / np.pi], window * 2 * np.sin(n * angle) / (n * np.pi)))
    shares = (shares / shares.sum()).astype(np.float32)
    count, size = len(corners), 20 * len(corners)
    before, here, after = corners, np.empty_like(corners), np.empty_like(corners)
    total = shares[0] * corners
    half = np.float32(0.5)
    in_halves(count, lambda a, b: _step(before, before, first, beside, half, half, shares[1], a, b, here, total), size)
    one = np.float32(1)
    for share in shares[2:]:
        stop()
        x, y, z = before, here, after

        def work(a: int, b: int) -> None:
            _step(y, x, first, beside, one, one, share, a, b, z, total)  # noqa: B023 (done before the next)

        in_halves(count, work, size)
        before, here, after = here, after, (before if before is not corners else np.empty_like(corners))
    moved = total - corners
    if held is not None:
        moved -= _outward(moved, normals(corners, triangles), held)
    far = np.linalg.norm(moved, axis=1, keepdims=True)
    return corners + moved * np.minimum(1, most / np.maximum(far, 1e-12)).astype(np.float32)


def neighbours(triangles: np.ndarray, count: int) -> tuple[np.ndarray, np.ndarray]:
    """Of each corner, where its neighbours begin in a list (count + 1,), and that list, int32."""
    first, beside = np.zeros(count + 1, np.int32), np.empty(triangles.size, np.int32)
    _neighbours(triangles, first, beside)
    return first, beside


def volume(corners: np.ndarray, triangles: np.ndarray) -> float:
    """What closed triangles enclose; below zero when they are turned in."""
    if not len(triangles):
        return 0.0
    return float(_volume(corners, triangles, np.asarray(corners, np.float64).mean(0)))


def area(corners: np.ndarray, triangles: np.ndarray) -> float:
    """Area of triangles."""
    return float(np.linalg.norm(across(corners, triangles), axis=1).sum() / 2)


def across(corners: np.ndarray, triangles: np.ndarray) -> np.ndarray:
    """A vector across each triangle, as long as twice its area, float64 (m, 3)."""
    a, b, c = (np.asarray(corners, np.float64)[triangles[:, n]] for n in range(3))
    return np.cross(b - a, c - a)


def normals(corners: np.ndarray, triangles: np.ndarray) -> np.ndarray:
    """Across the surface at each corner, of length 1, float32 (n, 3)."""
    found = np.zeros((len(corners), 3), np.float32)
    _normals(corners, triangles, found)
    return found


def _outward(moved: np.ndarray, across: np.ndarray, held: np.ndarray) -> np.ndarray:
    """The outward part of the moves of those that are held."""
    along = np.maximum((moved * across).sum(1), 0) * held
    return along[:, None].astype(np.float32) * across


def brought_to(
    corners: np.ndarray, triangles: np.ndarray, wanted: float, most: float, held: np.ndarray | None = None
) -> np.ndarray:
    """Corners moved across the surface, all by the same, until it encloses a volume; none by more than `most`, and
    those that are held inward alone."""
    turned = np.sign(volume(corners, triangles)) or 1.0
    moved, at = 0.0, corners
    for _ in range(6):
        missing = wanted - turned * volume(at, triangles)
        if abs(missing) < 1e-4 * wanted:
            break
        step = missing / max(area(at, triangles), 1e-30)
        step = float(np.clip(moved + step, -most, most)) - moved
        if step == 0:
            break
        moved += step
        by = np.float32(turned * step) * normals(at, triangles)
        at = at + (by if held is None or step < 0 else by * (1 - held[:, None]).astype(np.float32))
    return at


@kernel
def _neighbours(triangles, first, beside):
    for n in range(triangles.shape[0]):
        for m in range(3):
            first[triangles[n, m] + 1] += 1
    for n in range(1, first.shape[0]):
        first[n] += first[n - 1]
    for n in range(triangles.shape[0]):
        for m in range(3):
            here = triangles[n, m]
            beside[first[here]] = triangles[n, (m + 1) % 3]
            first[here] += 1
    for n in range(first.shape[0] - 1, 0, -1):
        first[n] = first[n - 1]
    first[0] = 0


@kernel(fastmath=True)
def _step(here, before, first, beside, of_here, of_mean, share, start, end, out, total):
    """The next polynomial at corners `start` to `end`, and the sum of all so far."""
    one = of_here == np.float32(1)
    for n in range(start, end):
        x, y, z = np.float32(0), np.float32(0), np.float32(0)
        count = first[n + 1] - first[n]
        for m in range(first[n], first[n + 1]):
            other = beside[m]
            x += here[other, 0]
            y += here[other, 1]
            z += here[other, 2]
        part = of_mean / np.float32(max(count, 1))
        x = of_here * here[n, 0] + part * x
        y = of_here * here[n, 1] + part * y
        z = of_here * here[n, 2] + part * z
        if one:
            x -= before[n, 0]
            y -= before[n, 1]
            z -= before[n, 2]
        out[n, 0], out[n, 1], out[n, 2] = x, y, z
        total[n, 0] += share * x
        total[n, 1] += share * y
        total[n, 2] += share * z


@kernel
def _volume(corners, triangles, middle):
    total = 0.0
    for n in range(triangles.shape[0]):
        a, b, c = triangles[n, 0], triangles[n, 1], triangles[n, 2]
        ax, ay, az = corners[a, 0] - middle[0], corners[a, 1] - middle[1], corners[a, 2] - middle[2]
        bx, by, bz = corners[b, 0] - middle[0], corners[b, 1] - middle[1], corners[b, 2] - middle[2]
        cx, cy, cz = corners[c, 0] - middle[0], corners[c, 1] - middle[1], corners[c, 2] - middle[2]
        total += ax * (by * cz - bz * cy) + ay * (bz * cx - bx * cz) + az * (bx * cy - by * cx)
    return total / 6


@kernel
def _normals(corners, triangles, found):
    for n in range(triangles.shape[0]):
        a, b, c = triangles[n, 0], triangles[n, 1], triangles[n, 2]
        ux, uy, uz = corners[b, 0] - corners[a, 0], corners[b, 1] - corners[a, 1], corners[b, 2] - corners[a, 2]
        vx, vy, vz = corners[c, 0] - corners[a, 0], corners[c, 1] - corners[a, 1], corners[c, 2] - corners[a, 2]
        x, y, z = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
        for m in range(3):
            at = triangles[n, m]
            found[at, 0] += x
            found[at, 1] += y
            found[at, 2] += z
    for n in range(found.shape[0]):
        far = np.sqrt(found[n, 0] ** 2 + found[n, 1] ** 2 + found[n, 2] ** 2)
        if far > 0:
            found[n, 0] /= far
            found[n, 1] /= far
            found[n, 2] /= far
