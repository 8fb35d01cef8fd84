"""Signed distances to simple solids, in mm, negative inside, and smooth ways to join them.

Formulas after J. C. Hart, Sphere tracing, The Visual Computer 12, 1996; the ellipsoid's is its usual first-order
approximation, exact at the surface.
"""

from __future__ import annotations

import math

from ..core.kernel import kernel


@kernel
def ellipsoid(x, y, z, cx, cy, cz, rx, ry, rz):
    px, py, pz = x - cx, y - cy, z - cz
    a = math.sqrt((px / rx) ** 2 + (py / ry) ** 2 + (pz / rz) ** 2)
    b = math.sqrt((px / rx**2) ** 2 + (py / ry**2) ** 2 + (pz / rz**2) ** 2)
    return a * (a - 1.0) / b if b > 1e-9 else -min(rx, min(ry, rz))


@kernel
def rod(x, y, z, ax, ay, az, bx, by, bz, ra, rb):
    """A rod from a to b whose radius goes evenly from ra to rb, round at both ends."""
    ex, ey, ez = bx - ax, by - ay, bz - az
    t = ((x - ax) * ex + (y - ay) * ey + (z - az) * ez) / (ex * ex + ey * ey + ez * ez)
    t = min(max(t, 0.0), 1.0)
    dx, dy, dz = x - ax - t * ex, y - ay - t * ey, z - az - t * ez
    return math.sqrt(dx * dx + dy * dy + dz * dz) - (ra + t * (rb - ra))


@kernel
def join(a, b, k):
    """Union with a fillet about k mm wide (polynomial smooth minimum)."""
    h = max(k - abs(a - b), 0.0) / k
    return min(a, b) - h * h * k * 0.25


@kernel
def cut(a, b, k):
    """a without b, with a fillet about k mm wide."""
    h = max(k - abs(a + b), 0.0) / k
    return max(a, -b) + h * h * k * 0.25
