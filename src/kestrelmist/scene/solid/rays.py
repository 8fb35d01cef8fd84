"""Volumes drawn by rays on the processor: light is taken up and given off along each, from the eye on.

Several volumes share a ray, each sampled where the ray is. What lies in blocks of which nothing is seen is leapt over
(M. Levoy, ACM Trans. Graphics 9, 1990); rays that are nearly opaque end.
"""

from __future__ import annotations

import math

import numpy as np

from ...core.kernel import kernel

SHADES, HIGHEST, LOWEST, MEAN = 0, 1, 2, 3
"""What a ray shows: what it meets in its order, or the highest, lowest or mean value."""
LEVELS = 4096
"""Steps of a volume's values; 0 is nothing, whatever the curve says."""
BLOCK = 8
"""Voxels along a side of the blocks that are leapt over."""
NONE = 1e30
"""How far what is never met lies: kernels that are quick know no infinity."""
FULL = 0.985
"""Opacity at which a ray ends."""
FACTS = 19
"""Numbers of a volume, see `facts_of`."""
GLOW, EDGES = 17, 18
"""Where of these numbers the share of light stands that does not depend on where it falls (above 1 for no light), and
how much only edges are seen."""
KEY_LIGHT = (-0.45, 0.55, 0.70)
"""Towards the light, seen from the eye: right, up, towards who looks."""


def facts_of(world_to_voxel: np.ndarray, shape: tuple[int, ...], start: int, blocks: int, look: tuple) -> np.ndarray:
    """What the kernel is told of a volume, float64 (FACTS,).

    Parameters
    ----------
    world_to_voxel : array (4, 4)
    shape : three ints
        Along k, j, i.
    start, blocks : int
        Where its voxels begin among those of all volumes, and its blocks among all blocks.
    look : (shaded, edges, glow)
        Whether light falls on it; how much only edges are seen, 0 to 1; and the share of light that does not depend on
        where it falls.
    """
    facts = np.zeros(FACTS)
    facts[:12] = world_to_voxel[:3].ravel()
    facts[12:15] = shape
    facts[15], facts[16] = start, blocks
    shaded, edges, glow = look
    facts[17], facts[18] = (glow if shaded else 2.0), edges
    return facts


@kernel(fastmath=True)
def cast(voxels, blocks, facts, tables, way, eye, planes, backs, shift, steps, start, end, colours, reached):
    """Draw rows `start` to `end` of a picture.

    Parameters
    ----------
    voxels : uint16 array (n,)
        Of all volumes, each in C order of [k, j, i].
    blocks : uint8 array (m,)
        1 for each block of a volume of which something may be seen.
    facts : float64 array (volumes, FACTS)
    tables : float32 array (volumes, LEVELS, 4)
        Red, green, blue (0 to 1) and opacity of each level, over the length of a step.
    way : int
        What a ray shows.
    eye : float64 array (6, 3)
        Where rays begin; what a column and a row add to that, or, when rays spread, to their direction; the direction
        of the ray of column and row 0; towards the light; and the direction of the ray in the middle.
    planes : float64 array (planes, 4)
        What is seen has n·p ≥ d for each (n, d).
    backs : float32 array (rows, columns)
        How far along each ray something opaque stands, mm.
    shift : (column, row, spreading)
        Of the first pixel, and whether rays spread.
    steps : float
        Length of a step, mm.
    colours : float32 array (rows, columns, 4), out
        Premultiplied colours and opacity.
    reached : float32 array (rows, columns), out
        How far along each ray half of the opacity that it meets is met, mm; infinity for none.
    """
    count = facts.shape[0]
    place, ahead = np.zeros(3), np.zeros(3)
    at, by = np.zeros((count, 3)), np.zeros((count, 3))
    best = np.zeros(count)
    for row in range(start, end):
        for column in range(colours.shape[1]):
            u, v = column + 0.5 + shift[0], row + 0.5 + shift[1]
            for n in range(3):
                if shift[2] > 0:
                    place[n] = eye[0, n]
                    ahead[n] = eye[3, n] + u * eye[1, n] + v * eye[2, n]
                else:
                    place[n] = eye[0, n] + u * eye[1, n] + v * eye[2, n]
                    ahead[n] = eye[3, n]
            long = math.sqrt(ahead[0] ** 2 + ahead[1] ** 2 + ahead[2] ** 2)
            for n in range(3):
                ahead[n] /= long
            near, far = 1e30, -1e30
            for m in range(count):  # the part of the ray that some volume holds
                one, two = -1e30, 1e30
                for n in range(3):
                    f = 4 * n
                    at[m, n] = facts[m, f] * place[0] + facts[m, f + 1] * place[1] + facts[m, f + 2] * place[2]
                    at[m, n] += facts[m, f + 3]
                    by[m, n] = facts[m, f] * ahead[0] + facts[m, f + 1] * ahead[1] + facts[m, f + 2] * ahead[2]
                    size = facts[m, 14 - n] - 0.5
                    if abs(by[m, n]) < 1e-12:
                        if at[m, n] < -0.5 or at[m, n] > size:
                            two = -1e30
                        continue
                    a, b = (-0.5 - at[m, n]) / by[m, n], (size - at[m, n]) / by[m, n]
                    one, two = max(one, min(a, b)), min(two, max(a, b))
                if one < two:
                    near, far = min(near, one), max(far, two)
            if shift[2] > 0:
                near = max(near, 1e-6)
            for p in range(planes.shape[0]):
                slope = planes[p, 0] * ahead[0] + planes[p, 1] * ahead[1] + planes[p, 2] * ahead[2]
                height = planes[p, 0] * place[0] + planes[p, 1] * place[1] + planes[p, 2] * place[2] - planes[p, 3]
                if abs(slope) < 1e-12:
                    if height < 0:
                        far = -1e30
                elif slope > 0:
                    near = max(near, -height / slope)
                else:
                    far = min(far, -height / slope)
            far = min(far, float(backs[row, column]))
            red = green = blue = opacity = 0.0
            reached[row, column] = NONE
            if near < far:
                # rays begin a little apart, so that steps make no rings
                mixed = (column * 1973 + row * 9277 + 26699) & 1023
                t = near + steps * (mixed / 1024.0)
                if way == SHADES:
                    half = NONE
                    while t < far and opacity < FULL:
                        leap, seen = 1e30, False
                        for m in range(count):
                            ahead_by = _leap(blocks, facts, m, at, by, t)
                            if ahead_by <= 0:
                                seen = True
                            else:
                                leap = min(leap, ahead_by)
                        if not seen:
                            t += max(math.ceil(leap / steps), 1.0) * steps
                            continue
                        for m in range(count):
                            x, y, z = at[m, 0] + t * by[m, 0], at[m, 1] + t * by[m, 1], at[m, 2] + t * by[m, 2]
                            level = _sample(voxels, facts, m, x, y, z)
                            if level < 0.5:
                                continue
                            index = min(int(level + 0.5), LEVELS - 1)
                            alpha = float(tables[m, index, 3])
                            if alpha <= 0.0005:
                                continue
                            bright, shine = 1.0, 0.0
                            if facts[m, GLOW] <= 1.0 or facts[m, EDGES] > 0:
                                bright, shine, steep = _lit(voxels, facts, m, x, y, z, eye)
                                if facts[m, EDGES] > 0:
                                    alpha *= 1.0 - facts[m, EDGES] + facts[m, EDGES] * steep
                                if facts[m, GLOW] > 1.0:
                                    bright, shine = 1.0, 0.0
                            part = (1.0 - opacity) * alpha
                            red += part * min(1.0, tables[m, index, 0] * bright + shine)
                            green += part * min(1.0, tables[m, index, 1] * bright + shine)
                            blue += part * min(1.0, tables[m, index, 2] * bright + shine)
                            if opacity < 0.5 <= opacity + part:
                                half = t
                            opacity += part
                        t += steps
                    if opacity >= 0.5:
                        reached[row, column] = half
                    elif opacity > 0.2:
                        whole = opacity
                        reached[row, column] = _met(voxels, blocks, facts, tables, at, by, near, far, steps, whole)
                else:
                    samples = 0
                    for m in range(count):
                        best[m] = -1.0 if way == HIGHEST else (1e9 if way == LOWEST else 0.0)
                    where = NONE
                    while t < far:
                        samples += 1
                        for m in range(count):
                            x, y, z = at[m, 0] + t * by[m, 0], at[m, 1] + t * by[m, 1], at[m, 2] + t * by[m, 2]
                            level = _sample(voxels, facts, m, x, y, z)
                            if level < 0.5:
                                continue
                            if way == HIGHEST and level > best[m]:
                                best[m], where = level, t
                            elif way == LOWEST and level < best[m]:
                                best[m], where = level, t
                            elif way == MEAN:
                                best[m] += level
                        t += steps
                    for m in range(count):
                        level = best[m] / max(samples, 1) if way == MEAN else best[m]
                        if level < 0.5 or level > LEVELS:
                            continue
                        index = min(int(level + 0.5), LEVELS - 1)
                        alpha = float(tables[m, index, 3])
                        part = (1.0 - opacity) * alpha
                        red += part * tables[m, index, 0]
                        green += part * tables[m, index, 1]
                        blue += part * tables[m, index, 2]
                        opacity += part
                    if opacity > 0.05:
                        reached[row, column] = where
            whole = 1.0 / opacity if way == SHADES and opacity >= FULL else 1.0  # what ended has met something opaque
            colours[row, column, 0], colours[row, column, 1] = red * whole, green * whole
            colours[row, column, 2], colours[row, column, 3] = blue * whole, opacity * whole


@kernel(fastmath=True)
def _met(voxels, blocks, facts, tables, at, by, near, far, steps, whole):
    """How far along a ray half of the opacity that it meets is met."""
    opacity, t = 0.0, near
    while t < far:
        for m in range(facts.shape[0]):
            if _leap(blocks, facts, m, at, by, t) > 0:
                continue
            level = _sample(voxels, facts, m, at[m, 0] + t * by[m, 0], at[m, 1] + t * by[m, 1], at[m, 2] + t * by[m, 2])
            if level >= 0.5:
                alpha = float(tables[m, min(int(level + 0.5), LEVELS - 1), 3])
                opacity += (1.0 - opacity) * alpha
                if opacity >= whole / 2:
                    return t
        t += steps
    return NONE


@kernel(fastmath=True)
def _leap(blocks, facts, m, at, by, t):
    """How far the ray may go on without seeing anything of a volume; 0 where it may see something."""
    leave = 1e30
    nk, nj, ni = int(facts[m, 12]), int(facts[m, 13]), int(facts[m, 14])
    index = 0
    for n in range(3):
        size = nk if n == 2 else (nj if n == 1 else ni)
        x = at[m, n] + t * by[m, n]
        if x < -0.5 or x > size - 0.5:  # on the way to it, or past it
            if (x < -0.5 and by[m, n] <= 0) or (x > size - 0.5 and by[m, n] >= 0):
                return 1e30
            edge = -0.5 if x < 0 else size - 0.5
            return max((edge - x) / by[m, n], 1e-9)
        block = min(int(max(x, 0.0)) // BLOCK, (size - 1) // BLOCK)
        if by[m, n] > 1e-12:
            leave = min(leave, ((block + 1) * BLOCK - x) / by[m, n])
        elif by[m, n] < -1e-12:
            leave = min(leave, (block * BLOCK - x) / by[m, n])
        if n == 0:
            index = block
        elif n == 1:
            index += block * (-(-ni // BLOCK))
        else:
            index += block * (-(-ni // BLOCK)) * (-(-nj // BLOCK))
    if blocks[int(facts[m, 16]) + index] != 0:
        return 0.0
    return max(leave, 1e-9)


@kernel(fastmath=True)
def _sample(voxels, facts, m, x, y, z):
    """The level at a place, mixed between voxels; 0 where the nearest voxel is nothing."""
    nk, nj, ni = int(facts[m, 12]), int(facts[m, 13]), int(facts[m, 14])
    if x < -0.5 or y < -0.5 or z < -0.5 or x > ni - 0.5 or y > nj - 0.5 or z > nk - 0.5:
        return 0.0
    x, y, z = min(max(x, 0.0), ni - 1.0), min(max(y, 0.0), nj - 1.0), min(max(z, 0.0), nk - 1.0)
    i, j, k = int(x), int(y), int(z)
    i, j, k = min(i, max(ni - 2, 0)), min(j, max(nj - 2, 0)), min(k, max(nk - 2, 0))
    a, b, c = x - i, y - j, z - k
    right, down, deep = min(1, ni - 1), (ni if nj > 1 else 0), (ni * nj if nk > 1 else 0)
    base = int(facts[m, 15]) + (k * nj + j) * ni + i
    v0, v1 = float(voxels[base]), float(voxels[base + right])
    v2, v3 = float(voxels[base + down]), float(voxels[base + down + right])
    v4, v5 = float(voxels[base + deep]), float(voxels[base + deep + right])
    v6, v7 = float(voxels[base + deep + down]), float(voxels[base + deep + down + right])
    if v0 * v1 * v2 * v3 * v4 * v5 * v6 * v7 == 0.0:  # some are nothing: those count as the nearest one does
        near = int(facts[m, 15]) + (int(z + 0.5) * nj + int(y + 0.5)) * ni + int(x + 0.5)
        value = float(voxels[near])
        if value == 0.0:
            return 0.0
        v0, v1 = v0 or value, v1 or value
        v2, v3 = v2 or value, v3 or value
        v4, v5 = v4 or value, v5 or value
        v6, v7 = v6 or value, v7 or value
    low = (v0 + a * (v1 - v0)) * (1 - b) + (v2 + a * (v3 - v2)) * b
    high = (v4 + a * (v5 - v4)) * (1 - b) + (v6 + a * (v7 - v6)) * b
    return low + c * (high - low)


@kernel(fastmath=True)
def _lit(voxels, facts, m, x, y, z, eye):
    """How bright a place is, the share of light that it throws back as it came, and how steep it is there, 0 to 1."""
    gi = _sample(voxels, facts, m, x + 1, y, z) - _sample(voxels, facts, m, x - 1, y, z)
    gj = _sample(voxels, facts, m, x, y + 1, z) - _sample(voxels, facts, m, x, y - 1, z)
    gk = _sample(voxels, facts, m, x, y, z + 1) - _sample(voxels, facts, m, x, y, z - 1)
    # growth along the world's axes: the transpose of world to voxel
    gx = gi * facts[m, 0] + gj * facts[m, 4] + gk * facts[m, 8]
    gy = gi * facts[m, 1] + gj * facts[m, 5] + gk * facts[m, 9]
    gz = gi * facts[m, 2] + gj * facts[m, 6] + gk * facts[m, 10]
    size = math.sqrt(gx * gx + gy * gy + gz * gz)
    steep = min(1.0, math.sqrt(gi * gi + gj * gj + gk * gk) / (0.20 * LEVELS))
    if size < 1e-9:
        return 1.0, 0.0, steep
    key = abs(gx * eye[4, 0] + gy * eye[4, 1] + gz * eye[4, 2]) / size
    front = abs(gx * eye[5, 0] + gy * eye[5, 1] + gz * eye[5, 2]) / size
    glow = facts[m, GLOW]
    bright = glow + (1.0 - glow) * (0.8 * key + 0.55 * front)
    return bright, 0.22 * key**18, steep
