"""Rays through a single volume, as `rays.cast` draws several: what is the same for all samples of a block is worked out
once, in single numbers."""

from __future__ import annotations

import math

import numpy as np

from ...core.kernel import kernel
from .rays import BLOCK, EDGES, FULL, GLOW, HIGHEST, LEVELS, LOWEST, MEAN, NONE

FAINT = 0.012
"""What adds less to a pixel is lit as if light fell straight on it."""


@kernel(fastmath=True)
def cast_shaded(
    voxels, blocks, facts, table, holes, eye, planes, backs, shift, steps, soft, start, end, colours, reached
):
    """Draw rows `start` to `end` of a volume's picture; see `rays.cast`.

    Parameters
    ----------
    voxels : uint16 array [k, j, i]
    blocks : uint8 array [k, j, i]
    facts : float64 array (FACTS,)
    table : float32 array (LEVELS, 4)
    holes : int
        Whether some voxels are nothing.
    soft : int
        Whether slopes are taken from voxels on both sides, or from those round a place alone.
    """
    nk, nj, ni = voxels.shape
    one, zero, half_voxel = np.float32(1), np.float32(0), np.float32(0.5)
    glow, edges = np.float32(facts[GLOW]), np.float32(facts[EDGES])
    place, ahead = np.zeros(3), np.zeros(3)
    at, by = np.zeros(3), np.zeros(3)
    for row in range(start, end):
        for column in range(colours.shape[1]):
            near, far = _part(facts, voxels.shape, eye, planes, shift, column, row, place, ahead, at, by)
            far = min(far, float(backs[row, column]))
            red, green, blue, opacity = zero, zero, zero, zero
            met = NONE
            mixed = (column * 1973 + row * 9277 + 26699) & 1023
            n = 0
            begin = near + steps * (mixed / 1024.0)
            t = begin
            x0, y0, z0 = np.float32(at[0]), np.float32(at[1]), np.float32(at[2])
            dx, dy, dz = np.float32(by[0]), np.float32(by[1]), np.float32(by[2])
            while t < far and opacity < FULL:
                # the block that the ray is in, and where it leaves it
                i = min(max(int(at[0] + t * by[0] + 1e-6), 0), ni - 1) // BLOCK
                j = min(max(int(at[1] + t * by[1] + 1e-6), 0), nj - 1) // BLOCK
                k = min(max(int(at[2] + t * by[2] + 1e-6), 0), nk - 1) // BLOCK
                leave = _leave(at, by, i, j, k, far)
                after = max(int(math.ceil((leave - begin) / steps)), n + 1)
                if blocks[k, j, i] == 0:
                    n = after
                    t = begin + n * steps
                    continue
                while n < after and opacity < FULL:
                    t = begin + n * steps
                    n += 1
                    if t >= far:
                        break
                    short = np.float32(t)
                    x = min(max(x0 + short * dx, zero), np.float32(ni - 1))
                    y = min(max(y0 + short * dy, zero), np.float32(nj - 1))
                    z = min(max(z0 + short * dz, zero), np.float32(nk - 1))
                    i, j, k = min(int(x), max(ni - 2, 0)), min(int(y), max(nj - 2, 0)), min(int(z), max(nk - 2, 0))
                    a, b, c = x - np.float32(i), y - np.float32(j), z - np.float32(k)
                    i1, j1, k1 = min(i + 1, ni - 1), min(j + 1, nj - 1), min(k + 1, nk - 1)
                    v0, v1 = np.float32(voxels[k, j, i]), np.float32(voxels[k, j, i1])
                    v2, v3 = np.float32(voxels[k, j1, i]), np.float32(voxels[k, j1, i1])
                    v4, v5 = np.float32(voxels[k1, j, i]), np.float32(voxels[k1, j, i1])
                    v6, v7 = np.float32(voxels[k1, j1, i]), np.float32(voxels[k1, j1, i1])
                    if holes != 0 and min(min(min(v0, v1), min(v2, v3)), min(min(v4, v5), min(v6, v7))) == zero:
                        value = np.float32(voxels[int(z + half_voxel), int(y + half_voxel), int(x + half_voxel)])
                        if value == zero:
                            continue
                        v0, v1 = v0 if v0 > zero else value, v1 if v1 > zero else value
                        v2, v3 = v2 if v2 > zero else value, v3 if v3 > zero else value
                        v4, v5 = v4 if v4 > zero else value, v5 if v5 > zero else value
                        v6, v7 = v6 if v6 > zero else value, v7 if v7 > zero else value
                    p0, p1, p2, p3 = v0 + a * (v1 - v0), v2 + a * (v3 - v2), v4 + a * (v5 - v4), v6 + a * (v7 - v6)
                    q0, q1 = p0 + b * (p1 - p0), p2 + b * (p3 - p2)
                    index = min(max(int(q0 + c * (q1 - q0) + half_voxel), 0), LEVELS - 1)
                    alpha = table[index, 3]
                    if alpha <= np.float32(0.0005):
                        continue
                    bright, shine = one, zero
                    if (glow <= one or edges > zero) and (alpha * (one - opacity) > np.float32(FAINT) or edges > zero):
                        if soft != 0 and 1 <= i < ni - 2 and 1 <= j < nj - 2 and 1 <= k < nk - 2:
                            gi = _mixed(voxels, k, j, i + 1, a, b, c) - _mixed(voxels, k, j, i - 1, a, b, c)
                            gj = _mixed(voxels, k, j + 1, i, a, b, c) - _mixed(voxels, k, j - 1, i, a, b, c)
                            gk = _mixed(voxels, k + 1, j, i, a, b, c) - _mixed(voxels, k - 1, j, i, a, b, c)
                        else:
                            two = np.float32(2)
                            low, high = (v1 - v0) + b * ((v3 - v2) - (v1 - v0)), (v5 - v4) + b * ((v7 - v6) - (v5 - v4))
                            gi = two * (low + c * (high - low))
                            gj = two * ((p1 - p0) + c * ((p3 - p2) - (p1 - p0)))
                            gk = two * (q1 - q0)
                        if edges > zero:
                            steep = math.sqrt(gi * gi + gj * gj + gk * gk) / np.float32(0.2 * LEVELS)
                            alpha *= one - edges + edges * min(one, steep)
                        if glow <= one:
                            gx = gi * facts[0] + gj * facts[4] + gk * facts[8]
                            gy = gi * facts[1] + gj * facts[5] + gk * facts[9]
                            gz = gi * facts[2] + gj * facts[6] + gk * facts[10]
                            size = math.sqrt(gx * gx + gy * gy + gz * gz)
                            if size > 1e-9:
                                key = np.float32(abs(gx * eye[4, 0] + gy * eye[4, 1] + gz * eye[4, 2]) / size)
                                front = np.float32(abs(gx * eye[5, 0] + gy * eye[5, 1] + gz * eye[5, 2]) / size)
                                bright = glow + (one - glow) * (np.float32(0.8) * key + np.float32(0.55) * front)
                                squared = key * key
                                shine = squared * squared
                                shine = np.float32(0.22) * shine * shine * shine * shine * squared
                    part = (one - opacity) * alpha
                    red += part * min(one, table[index, 0] * bright + shine)
                    green += part * min(one, table[index, 1] * bright + shine)
                    blue += part * min(one, table[index, 2] * bright + shine)
                    if opacity < half_voxel and opacity + part >= half_voxel:
                        met = t
                    opacity += part
                t = begin + n * steps
            whole = one / opacity if opacity >= FULL else one  # a ray that ended has met something opaque
            colours[row, column, 0], colours[row, column, 1] = red * whole, green * whole
            colours[row, column, 2], colours[row, column, 3] = blue * whole, opacity * whole
            reached[row, column] = met


@kernel(fastmath=True)
def cast_projected(voxels, ends, facts, table, way, eye, planes, backs, shift, steps, start, end, colours, reached):
    """Draw rows `start` to `end` of the highest, lowest or mean values of a volume; see `rays.cast`.

    Parameters
    ----------
    ends : uint16 array [k, j, i, 2]
        Lowest and highest level of each block; 0 and 0 where it is nothing.
    """
    nk, nj, ni = voxels.shape
    place, ahead = np.zeros(3), np.zeros(3)
    at, by = np.zeros(3), np.zeros(3)
    half = np.float32(0.5)
    for row in range(start, end):
        for column in range(colours.shape[1]):
            near, far = _part(facts, voxels.shape, eye, planes, shift, column, row, place, ahead, at, by)
            far = min(far, float(backs[row, column]))
            best = np.float32(1e9) if way == LOWEST else np.float32(0)
            total, count, n, where = 0.0, 0, 0, NONE
            begin = near + 0.5 * steps
            t = begin
            while t < far:
                i = min(max(int(at[0] + t * by[0] + 1e-6), 0), ni - 1) // BLOCK
                j = min(max(int(at[1] + t * by[1] + 1e-6), 0), nj - 1) // BLOCK
                k = min(max(int(at[2] + t * by[2] + 1e-6), 0), nk - 1) // BLOCK
                after = max(int(math.ceil((_leave(at, by, i, j, k, far) - begin) / steps)), n + 1)
                low, high = ends[k, j, i, 0], ends[k, j, i, 1]
                if high == 0 or (way == HIGHEST and high <= best) or (way == LOWEST and low >= best):
                    n = after
                    t = begin + n * steps
                    continue
                while n < after:
                    t = begin + n * steps
                    n += 1
                    if t >= far:
                        break
                    x = np.float32(min(max(at[0] + t * by[0], 0.0), ni - 1.0))
                    y = np.float32(min(max(at[1] + t * by[1], 0.0), nj - 1.0))
                    z = np.float32(min(max(at[2] + t * by[2], 0.0), nk - 1.0))
                    if voxels[int(z + half), int(y + half), int(x + half)] == 0:
                        continue
                    i, j, k = min(int(x), max(ni - 2, 0)), min(int(y), max(nj - 2, 0)), min(int(z), max(nk - 2, 0))
                    level = _mixed(voxels, k, j, i, x - np.float32(i), y - np.float32(j), z - np.float32(k))
                    if way == MEAN:
                        total += level
                        count += 1
                    elif (way == HIGHEST and level > best) or (way == LOWEST and level < best):
                        best, where = level, t
                t = begin + n * steps
            if way == MEAN:
                best = np.float32(total / max(count, 1))
                where = near if count > 0 else NONE
            index = min(max(int(best + half), 0), LEVELS - 1) if where < NONE else 0
            alpha = table[index, 3]
            colours[row, column, 0], colours[row, column, 1] = alpha * table[index, 0], alpha * table[index, 1]
            colours[row, column, 2], colours[row, column, 3] = alpha * table[index, 2], alpha
            reached[row, column] = where if alpha > np.float32(0.05) else NONE


@kernel(fastmath=True)
def _leave(at, by, i, j, k, far):
    """How far along a ray it leaves a block."""
    leave = far
    for n in range(3):
        block = k if n == 2 else (j if n == 1 else i)
        if by[n] > 1e-12:
            leave = min(leave, ((block + 1) * BLOCK - at[n]) / by[n])
        elif by[n] < -1e-12 and block > 0:
            leave = min(leave, (block * BLOCK - at[n]) / by[n])
    return leave


@kernel(fastmath=True)
def _mixed(voxels, k, j, i, a, b, c):
    v0, v1 = np.float32(voxels[k, j, i]), np.float32(voxels[k, j, i + 1])
    v2, v3 = np.float32(voxels[k, j + 1, i]), np.float32(voxels[k, j + 1, i + 1])
    v4, v5 = np.float32(voxels[k + 1, j, i]), np.float32(voxels[k + 1, j, i + 1])
    v6, v7 = np.float32(voxels[k + 1, j + 1, i]), np.float32(voxels[k + 1, j + 1, i + 1])
    p0, p1, p2, p3 = v0 + a * (v1 - v0), v2 + a * (v3 - v2), v4 + a * (v5 - v4), v6 + a * (v7 - v6)
    q0, q1 = p0 + b * (p1 - p0), p2 + b * (p3 - p2)
    return q0 + c * (q1 - q0)


@kernel(fastmath=True)
def _part(facts, shape, eye, planes, shift, column, row, place, ahead, at, by):
    """The ray of a pixel: where it begins and its direction, in the world and in voxels; and the part of it, mm, that
    lies in the volume and before the planes."""
    u, v = column + 0.5 + shift[0], row + 0.5 + shift[1]
    for n in range(3):
        if shift[2] > 0:
            place[n] = eye[0, n]
            ahead[n] = eye[3, n] + u * eye[1, n] + v * eye[2, n]
        else:
            place[n] = eye[0, n] + u * eye[1, n] + v * eye[2, n]
            ahead[n] = eye[3, n]
    long = math.sqrt(ahead[0] ** 2 + ahead[1] ** 2 + ahead[2] ** 2)
    near, far = 1e-6, NONE
    for n in range(3):
        ahead[n] /= long
    for n in range(3):
        f = 4 * n
        at[n] = facts[f] * place[0] + facts[f + 1] * place[1] + facts[f + 2] * place[2] + facts[f + 3]
        by[n] = facts[f] * ahead[0] + facts[f + 1] * ahead[1] + facts[f + 2] * ahead[2]
        size = shape[2 - n] - 0.5
        if abs(by[n]) < 1e-12:
            if at[n] < -0.5 or at[n] > size:
                far = -NONE
            continue
        a, b = (-0.5 - at[n]) / by[n], (size - at[n]) / by[n]
        near, far = max(near, min(a, b)), min(far, max(a, b))
    for p in range(planes.shape[0]):
        slope = planes[p, 0] * ahead[0] + planes[p, 1] * ahead[1] + planes[p, 2] * ahead[2]
        height = planes[p, 0] * place[0] + planes[p, 1] * place[1] + planes[p, 2] * place[2] - planes[p, 3]
        if abs(slope) < 1e-12:
            if height < 0:
                far = -NONE
        elif slope > 0:
            near = max(near, -height / slope)
        else:
            far = min(far, -height / slope)
    return near, far
