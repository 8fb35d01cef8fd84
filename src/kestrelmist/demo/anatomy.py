"""Where everything lies in a dormouse's head: signed distances to its tissues at one point.

World axes: x right, y front, z up, mm; the origin lies in the middle of the head. Everything is written for the right
half and mirrored; the animal's warp makes the sides differ.
"""

from __future__ import annotations

import math

from ..core.kernel import kernel
from .shapes import cut, ellipsoid, join, rod

SKIN, BRAIN, CORD, SKULL, JAW, VERTEBRA, TEETH, AIR, MUCOSA, EYE, LENS, VENTRICLE, HIPPOCAMPUS, WHITE, SEAM, NUCLEI = (
    range(16)
)
FIELDS = 16


@kernel
def _skin(x, y, z):
    d = ellipsoid(x, y, z, 0.0, -3.2, 0.9, 7.9, 9.8, 6.9)
    d = join(d, rod(x, y, z, 0.0, 2.0, -0.8, 0.0, 12.3, -1.6, 5.9, 2.3), 3.0)
    d = join(d, ellipsoid(x, y, z, 4.7, -0.5, -3.2, 4.2, 5.4, 4.0), 2.0)
    d = join(d, rod(x, y, z, 0.0, -8.0, -4.2, 0.0, 8.6, -4.7, 4.6, 1.9), 2.5)
    d = join(d, rod(x, y, z, 0.0, -9.0, -1.2, 0.0, -22.0, -2.0, 7.6, 8.6), 4.0)
    d = join(d, rod(x, y, z, 0.0, 12.6, -1.5, 0.0, 13.3, -1.7, 1.5, 1.1), 1.0)
    # the ear: a thin cupped leaf
    ex, ez = x - 7.6, z - 6.0
    u, v = 0.80 * ex + 0.60 * ez, -0.60 * ex + 0.80 * ez
    leaf = ellipsoid(u, y, v, 1.9, -6.6, 0.9, 3.1, 2.5, 0.55)
    leaf = cut(leaf, ellipsoid(u, y, v, 2.0, -5.6, 1.5, 2.5, 2.0, 0.75), 0.3)
    return join(d, leaf, 0.9)


@kernel
def _brain(x, y, z):
    d = ellipsoid(x, y, z, 2.75, -2.6, 2.0, 3.55, 5.5, 3.45)
    d = join(d, ellipsoid(x, y, z, 2.9, -0.5, 0.4, 3.0, 4.0, 2.4), 1.2)
    d = min(d, ellipsoid(-x, y, z, 2.75, -2.6, 2.0, 3.55, 5.5, 3.45))
    d = join(d, ellipsoid(x, y, z, 1.02, 4.75, 1.3, 1.1, 2.1, 1.2), 0.5)
    d = join(d, ellipsoid(x, y, z, 0.0, -8.25, 1.7, 3.9, 2.25, 2.75), 0.35)
    d = join(d, ellipsoid(x, y, z, 4.25, -7.7, 0.3, 1.0, 1.15, 1.15), 0.35)
    return join(d, rod(x, y, z, 0.0, -1.0, -1.0, 0.0, -11.0, -1.5, 2.05, 1.75), 0.6)


@kernel
def _teeth(x, y, z):
    """Upper and lower teeth apart, so that each goes with its bone."""
    upper = rod(x, y, z, 0.56, 9.6, -1.2, 0.56, 11.35, -2.1, 0.46, 0.48)
    upper = min(upper, rod(x, y, z, 0.56, 11.35, -2.1, 0.54, 11.75, -3.9, 0.48, 0.34))
    lower = rod(x, y, z, 0.44, 5.2, -5.75, 0.44, 9.2, -5.5, 0.40, 0.42)
    lower = min(lower, rod(x, y, z, 0.44, 9.2, -5.5, 0.42, 10.5, -4.35, 0.42, 0.30))
    for n in range(4):
        size = 0.62 - 0.05 * abs(n - 1.0)
        crown = 0.10 * math.cos(9.0 * x) * math.cos(9.0 * y)
        upper = min(upper, ellipsoid(x, y, z, 1.78, 3.7 - 1.3 * n, -2.75, size, size * 1.02, 0.92) + crown)
        lower = min(lower, ellipsoid(x, y, z, 1.72, 3.5 - 1.3 * n, -4.85, size * 0.92, size, 0.78) - crown)
    return upper, lower


@kernel
def _jaw(x, y, z):
    d = rod(x, y, z, 0.45, 7.6, -5.75, 1.35, 4.6, -5.95, 0.62, 0.78)
    d = join(d, rod(x, y, z, 1.35, 4.6, -5.95, 2.35, 0.8, -5.75, 0.78, 0.72), 0.4)
    d = join(d, rod(x, y, z, 2.35, 0.8, -5.75, 3.6, -2.6, -5.0, 0.72, 0.5), 0.4)
    d = join(d, rod(x, y, z, 3.6, -2.6, -5.0, 4.3, -5.0, -5.7, 0.5, 0.30), 0.4)
    d = join(d, rod(x, y, z, 3.5, -2.3, -4.9, 4.55, -3.3, -3.1, 0.46, 0.38), 0.4)
    d = join(d, rod(x, y, z, 3.3, -1.3, -4.9, 4.7, -0.9, -3.25, 0.40, 0.24), 0.4)
    return join(d, ellipsoid(x, y, z, 4.62, -3.45, -2.38, 0.46, 0.80, 0.50), 0.3)


@kernel
def _arch(x, y, z):
    """Cheek bone."""
    d = rod(x, y, z, 2.2, 5.2, -1.5, 5.3, 3.0, -1.9, 0.62, 0.48)
    d = join(d, rod(x, y, z, 5.3, 3.0, -1.9, 6.55, -0.4, -1.9, 0.48, 0.40), 0.3)
    d = join(d, rod(x, y, z, 6.55, -0.4, -1.9, 6.0, -4.0, -0.9, 0.40, 0.42), 0.3)
    return join(d, rod(x, y, z, 6.0, -4.0, -0.9, 5.0, -5.2, -0.5, 0.42, 0.5), 0.4)


@kernel
def _muscle_seam(x, y, z):
    """Distance to the nearest sheet between muscles."""
    d = abs(ellipsoid(x, y, z, 5.3, -0.9, -3.7, 1.8, 4.2, 3.1))
    d = min(d, abs(ellipsoid(x, y, z, 5.6, -3.4, 2.0, 1.3, 4.4, 3.6)))
    d = min(d, abs(rod(x, y, z, 1.7, 2.0, -7.3, 2.6, -7.0, -6.8, 0.9, 1.3)))
    d = min(d, abs(ellipsoid(x, y, z, 0.0, 3.0, -4.9, 1.35, 5.0, 0.9)))
    d = min(d, abs(rod(x, y, z, 2.6, -9.5, 2.2, 3.0, -22.0, 2.0, 1.9, 2.9)))
    return min(d, abs(rod(x, y, z, 3.4, -8.5, -3.8, 3.8, -22.0, -3.2, 1.5, 2.2)))


@kernel
def tissues(wx, y, z, rough, out):
    """Signed distances at a point.

    Parameters
    ----------
    wx, y, z : mm
    rough : number
        Low-frequency noise around 0, about ±1: makes walls thicker and thinner.
    out : array (FIELDS,)
        Filled with the distance to each tissue, mm.
    """
    x = abs(wx)
    skin = _skin(x, y, z)
    if skin > 0.8:  # air, and nothing of the animal near: half of the lattice
        out[:] = skin
        return
    brain = _brain(x, y, z)
    cord = rod(x, y, z, 0.0, -9.0, -1.4, 0.0, -24.0, -1.9, 1.65, 1.35)
    wall = 0.46 + 0.07 * rough
    case = brain - 0.24 - wall
    # sutures: shallow seams in the outer half of the vault
    lines = min(
        max(abs(wx + 0.07 * math.sin(6.0 * y)), y - 3.6),
        min(abs(y - 1.4 - 0.25 * x + 0.08 * math.sin(7.0 * x)), abs(y + 6.0 - 0.12 * x + 0.08 * math.sin(8.0 * x))),
    )
    case = cut(case, max(max(lines - 0.055, 0.24 + 0.55 * wall - brain), 0.8 - z), 0.05)
    # the face: nose tube, palate, cheek bones
    nose = rod(x, y, z, 0.0, 5.6, 0.7, 0.0, 10.9, -0.3, 1.95, 1.15)
    skull = join(case, nose - 0.42 - 0.05 * rough, 0.5)
    skull = join(skull, ellipsoid(x, y, z, 0.0, 3.4, -1.9, 2.5, 5.8, 0.62), 0.5)
    skull = join(skull, rod(x, y, z, 0.45, 9.0, -1.2, 0.55, 10.6, -1.5, 0.9, 0.72), 0.4)
    skull = join(skull, _arch(x, y, z), 0.4)
    upper, lower = _teeth(x, y, z)
    skull = join(skull, upper, 0.12)
    # ear: a thin-walled air-filled bulla with a dense inner ear and a septum
    bulla = ellipsoid(x, y, z, 3.75, -6.8, -2.9, 1.75, 2.3, 1.85)
    skull = join(skull, bulla - 0.12, 0.35)
    hollow = bulla + 0.30 + 0.04 * rough
    hollow = max(hollow, 0.19 - abs(y + 6.9 + 0.25 * (z + 2.9)))
    inner_ear = ellipsoid(x, y, z, 2.75, -6.0, -1.7, 0.95, 1.35, 0.85)
    canal = rod(x, y, z, 4.9, -6.9, -2.4, 9.5, -7.2, 0.6, 0.42, 0.6)
    skull = cut(skull, nose, 0.08)
    skull = cut(skull, hollow, 0.08)
    skull = cut(skull, canal, 0.10)
    skull = min(skull, inner_ear)
    eye = ellipsoid(x, y, z, 4.85, 3.3, 1.15, 1.75, 1.75, 1.75)
    skull = cut(skull, eye - 0.22, 0.2)
    inside = min(brain, cord) - 0.24
    skull = max(skull, -inside)
    jaw = min(_jaw(x, y, z), lower)
    # first neck vertebra, clear of the skull
    ring = abs(math.sqrt(x * x + (z + 1.5) ** 2) - 2.75 - 0.25 * math.cos(3.0 * math.atan2(z + 1.5, x))) - 0.55
    vertebra = max(ring, abs(y + 13.25) - 0.75 - 0.1 * rough)
    throat = rod(x, y, z, 0.0, 1.2, -3.05, 0.0, -5.5, -4.1, 0.40, 0.55)
    throat = min(throat, rod(x, y, z, 0.0, -5.5, -4.1, 0.0, -24.0, -5.4, 0.65, 0.85))
    mouth = ellipsoid(x, y, z, 0.0, 4.5, -3.75, 1.05, 4.6, 0.13)
    scroll = (
        abs(math.sin(2.9 * x + 1.4 * math.sin(1.9 * z + 0.5 * y)) * math.cos(2.3 * z + 0.9 * math.sin(2.1 * x))) - 0.42
    )
    out[SKIN], out[BRAIN], out[CORD], out[SKULL], out[JAW], out[VERTEBRA] = skin, brain, cord, skull, jaw, vertebra
    out[TEETH] = min(upper, lower)
    out[AIR] = min(min(nose, hollow), min(min(throat, mouth), canal))
    out[MUCOSA] = max(nose, min(0.35 * scroll, min(abs(x) - 0.12, -(nose + 0.16))))
    out[EYE], out[LENS] = eye, ellipsoid(x, y, z, 5.35, 3.65, 1.2, 0.98, 0.98, 1.02)
    _inside_brain(x, y, z, brain, rough, out)
    out[SEAM] = _muscle_seam(x, y, z) - 0.10 * rough


@kernel
def _inside_brain(x, y, z, brain, rough, out):
    d = rod(x, y, z, 0.95, 1.4, 2.7, 1.15, -1.6, 3.35, 0.20, 0.26)
    d = join(d, rod(x, y, z, 1.15, -1.6, 3.35, 2.9, -4.1, 3.2, 0.26, 0.28), 0.2)
    d = join(d, rod(x, y, z, 2.9, -4.1, 3.2, 4.0, -4.5, 1.4, 0.28, 0.20), 0.2)
    d = min(d, ellipsoid(x, y, z, 0.0, -2.2, 1.1, 0.20, 1.5, 1.4))
    d = min(d, rod(x, y, z, 0.0, -3.6, 0.9, 0.0, -6.6, 0.1, 0.18, 0.20))
    out[VENTRICLE] = max(join(d, ellipsoid(x, y, z, 0.0, -8.0, -0.35, 0.95, 1.1, 0.22), 0.2), brain + 0.3)
    h = rod(x, y, z, 0.75, -2.9, 2.55, 2.3, -4.2, 2.35, 0.62, 0.78)
    h = join(h, rod(x, y, z, 2.3, -4.2, 2.35, 3.75, -4.55, 0.9, 0.78, 0.74), 0.3)
    h = join(h, rod(x, y, z, 3.75, -4.55, 0.9, 3.85, -3.5, -0.5, 0.74, 0.55), 0.3)
    out[HIPPOCAMPUS] = max(h, brain + 0.75)
    # white matter: a sheet under the cortex that crosses the middle as the corpus callosum, and deep tracts
    sheet = abs(brain + 1.15 + 0.10 * rough - 0.06 * z) - 0.12 - 0.04 * rough
    cortex = max(max(-(z + 0.6), y - 3.0), -6.4 - y)
    w = max(sheet, cortex)
    bridge = max(max(abs(z - 3.0 - 0.035 * (y + 1.0) ** 2 * -1.0) - 0.17, x - 2.2), abs(y + 1.1) - 3.1)
    w = min(w, bridge)
    w = min(w, rod(x, y, z, 0.32, 1.2, -0.2, 0.42, -1.0, 0.9, 0.22, 0.22))
    w = min(w, rod(x, y, z, 1.6, 0.8, 0.0, 1.0, -6.0, -1.7, 0.34, 0.55))
    w = min(w, ellipsoid(x, y, z, 1.02, 4.75, 1.3, 0.28, 1.4, 0.34))
    # the little brain's tree: branches between folia
    tree = ellipsoid(x, y, z, 0.0, -7.7, 0.9, 1.9, 0.55, 0.75)
    angle = math.atan2(z - 0.2, -(y + 6.8)) + 0.10 * math.sin(1.3 * x)
    folia = 0.32 * (abs(math.sin(4.6 * angle)) - 0.26)
    cerebellum = ellipsoid(x, y, z, 0.0, -8.25, 1.7, 3.9, 2.25, 2.75)
    w = min(w, max(folia, cerebellum + 0.55))
    out[WHITE] = max(min(w, max(tree, cerebellum)), brain + 0.32)
    nuclei = ellipsoid(x, y, z, 1.05, -2.9, 0.7, 1.1, 1.6, 1.2)
    nuclei = min(nuclei, rod(x, y, z, 0.9, -4.8, 1.0, 0.9, -5.8, 1.2, 0.85, 0.7))
    out[NUCLEI] = min(nuclei, ellipsoid(x, y, z, 0.0, -6.0, -1.6, 0.8, 2.4, 0.5))
