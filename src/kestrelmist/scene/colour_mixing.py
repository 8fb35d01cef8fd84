"""Packed colours mixed between neighbouring voxels, each channel by itself, in whole numbers: 256 is all of one."""

from __future__ import annotations

import numpy as np

from ..core.kernel import kernel


@kernel
def plane_colours(plane, columns, rows, out, top, bottom):
    """Packed colours mixed between four pixels, for rows `top` to `bottom`."""
    left, right, nearest = columns[0].astype(np.int64), columns[1].astype(np.int64), columns[3].astype(np.int64)
    for y in range(top, bottom):
        if rows[3, y] < 0:
            out[y, :] = 0
            continue
        j, j1 = int(rows[0, y]), int(rows[1, y])
        wy = int(rows[2, y] * 256)
        for x in range(out.shape[1]):
            if nearest[x] < 0:
                out[y, x] = 0
                continue
            wx = int(columns[2, x] * 256)
            colour = np.uint32(0xFF000000)
            for shift in (0, 8, 16):
                a = int(plane[j, left[x]] >> shift) & 255
                b = int(plane[j, right[x]] >> shift) & 255
                c = int(plane[j1, left[x]] >> shift) & 255
                d = int(plane[j1, right[x]] >> shift) & 255
                one, other = a * 256 + (b - a) * wx, c * 256 + (d - c) * wx
                colour |= np.uint32(((one * 256 + (other - one) * wy) >> 16) << shift)
            out[y, x] = colour


@kernel(inline="always")
def span(start, step, size, count):
    """Pixels a to b-1 of a row whose coordinate start + step * x lies within -0.5 … size - 0.5."""
    low, high = -0.5 - start, size - 0.5 - start
    if step == 0.0:
        return (0, count) if low <= 0.0 < high else (0, 0)
    first, last = low / step, high / step
    if step < 0.0:
        first, last = last, first
    return int(max(0.0, np.ceil(min(first, 1e9)))), int(min(float(count), np.ceil(max(last, -1e9))))


@kernel
def volume_colours(volume, frame, out, top, bottom):
    """The same on a grid that is tilted to the picture: mixed between eight voxels."""
    nk, nj, ni = volume.shape
    width = out.shape[1]
    for y in range(top, bottom):
        oi = frame[0, 0] + frame[2, 0] * y
        oj = frame[0, 1] + frame[2, 1] * y
        ok = frame[0, 2] + frame[2, 2] * y
        a0, b0 = span(oi, frame[1, 0], ni, width)
        a1, b1 = span(oj, frame[1, 1], nj, width)
        a2, b2 = span(ok, frame[1, 2], nk, width)
        first, last = max(a0, a1, a2), min(b0, b1, b2)
        if last <= first:
            first = last = 0
        out[y, :first] = 0
        out[y, last:] = 0
        for x in range(first, last):
            fi = min(max(oi + frame[1, 0] * x, 0.0), ni - 1.0)
            fj = min(max(oj + frame[1, 1] * x, 0.0), nj - 1.0)
            fk = min(max(ok + frame[1, 2] * x, 0.0), nk - 1.0)
            i, j, k = int(fi), int(fj), int(fk)
            wi, wj, wk = int((fi - i) * 256), int((fj - j) * 256), int((fk - k) * 256)
            i1, j1, k1 = min(i + 1, ni - 1), min(j + 1, nj - 1), min(k + 1, nk - 1)
            colour = np.uint32(0xFF000000)
            for shift in (0, 8, 16):
                mixed = 0
                for corner in range(8):
                    kk, sk = (k1, wk) if corner & 4 else (k, 256 - wk)
                    jj, sj = (j1, wj) if corner & 2 else (j, 256 - wj)
                    ii, si = (i1, wi) if corner & 1 else (i, 256 - wi)
                    share = sk * sj * si
                    if share:
                        mixed += (int(volume[kk, jj, ii] >> shift) & 255) * share
                colour |= np.uint32((mixed >> 24) << shift)
            out[y, x] = colour
