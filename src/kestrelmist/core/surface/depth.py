"""How deep each voxel lies within a mask, smoothed: a field whose zero is the mask's surface without its stairs."""

from __future__ import annotations

import numpy as np

from ..halves import in_halves
from ..kernel import kernel

REACH = 3
"""Steps up to which distances are followed."""
WIDE = 4
"""Steps on each side that a smoothed value takes in."""
ROUND = BLOCK = 8
"""Slices round those that are wanted, which have a say in them: REACH and WIDE together, and one more. Sides of a
block, so that what changes in one is felt in its neighbours alone."""
LEAST, THIN = 0.08, 0.4
"""How far from zero a voxel stays, on its own side, whatever is round it; where it is thin, one voxel between two of
the other side."""


def weights(sigma: float) -> np.ndarray:
    """Of a blur that leaves what is curved where it is: twice a Gaussian less the Gaussian of that, whose second moment
    is none. float32 (2 WIDE + 1,)."""
    at = np.arange(-WIDE, WIDE + 1)
    once = np.exp(-(at**2) / (2 * sigma**2))
    twice = np.exp(-(at**2) / (4 * sigma**2)) / np.sqrt(2)
    found = (2 * once - twice) / (2 * once - twice).sum()
    return found.astype(np.float32)


def depth_of(
    mask: np.ndarray, steps: tuple[float, float, float], first: int, last: int, sigma: float = 1.0
) -> np.ndarray:
    """The smoothed depth of a mask in slices `first` to `last`, float32 (last − first, rows, columns): above zero
    inside, below outside, in the unit of the steps.

    Distances to the nearest voxel of the other side (P. Felzenszwalb, D. Huttenlocher, Theory of Computing 8, 2012,
    axis by axis), as far as REACH; what lies beyond the mask's ends is outside.

    Parameters
    ----------
    mask : uint8 array [k, j, i], one empty voxel round it at least
    steps : three numbers
        Lengths of a voxel along k, j, i.
    sigma : voxels
        Of the Gaussian.
    """
    start, stop = max(0, first - ROUND), min(mask.shape[0], last + ROUND)
    part = mask[start:stop]
    most = float((REACH * max(steps)) ** 2)
    a, b = np.empty(part.shape, np.float32), np.empty(part.shape, np.float32)
    count = part.shape[0]
    taps, near = weights(sigma), _near(part)

    def each(work) -> None:
        in_halves(count, work, part.size)

    each(lambda x, y: _along_rows(part, steps[2], most, near, x, y, a))
    each(lambda x, y: _along_columns(a, steps[1], near, x, y, b))
    each(lambda x, y: _along_slices(b, steps[0], near, x, y, a))
    each(lambda x, y: _blur_rows(a, taps, near, x, y, b))
    each(lambda x, y: _blur_columns(b, taps, near, x, y, a))
    each(lambda x, y: _blur_slices(a, taps, near, x, y, b))
    finest = min(steps)
    each(lambda x, y: _keep_sides(part, LEAST * finest, THIN * finest, near, x, y, b))
    return b[first - start : last - start]


def _near(mask: np.ndarray) -> np.ndarray:
    """Blocks of BLOCK³ voxels in which, or in one beside which, something changes: uint8."""
    sizes = [-(-n // BLOCK) for n in mask.shape]
    states, near = np.empty(sizes, np.uint8), np.empty(sizes, np.uint8)
    in_halves(sizes[0], lambda x, y: _states(mask, x, y, states), mask.size)
    _changing(states, near)
    return near


@kernel
def _states(mask, start, end, states):
    """1 for a block outside, 2 for one inside, 3 for one that is neither."""
    nk, nj, ni = mask.shape
    for c in range(start, end):
        for b in range(states.shape[1]):
            for a in range(states.shape[2]):
                states[c, b, a] = 0
            for k in range(c * BLOCK, min((c + 1) * BLOCK, nk)):
                for j in range(b * BLOCK, min((b + 1) * BLOCK, nj)):
                    for a in range(states.shape[2]):
                        found = states[c, b, a]
                        for i in range(a * BLOCK, min((a + 1) * BLOCK, ni)):
                            found |= 2 if mask[k, j, i] != 0 else 1
                        states[c, b, a] = found


@kernel
def _changing(states, near):
    nk, nj, ni = states.shape
    for c in range(nk):
        for b in range(nj):
            for a in range(ni):
                found = 0
                for k in range(max(c - 1, 0), min(c + 2, nk)):
                    for j in range(max(b - 1, 0), min(b + 2, nj)):
                        for i in range(max(a - 1, 0), min(a + 2, ni)):
                            found |= states[k, j, i]
                edge = c == 0 or b == 0 or a == 0 or c == nk - 1 or b == nj - 1 or a == ni - 1
                near[c, b, a] = found == 3 or (edge and found != 1)  # beyond the ends all is outside


@kernel
def _run(near, k, j, block):
    """The end of the run of blocks that begins with one, when that is to be looked at; the block itself when not."""
    while block < near.shape[2] and near[k // BLOCK, j // BLOCK, block] != 0:
        block += 1
    return block


@kernel
def _along_rows(mask, step, most, near, start, end, out):
    ni = mask.shape[2]
    for k in range(start, end):
        for j in range(mask.shape[1]):
            block = 0
            while block < near.shape[2]:
                after = _run(near, k, j, block)
                low, high = block * BLOCK, min(max(after, block + 1) * BLOCK, ni)
                if after == block:
                    far = most if mask[k, j, low] != 0 else -most
                    for i in range(low, high):
                        out[k, j, i] = far
                    block += 1
                    continue
                for i in range(low, high):
                    inside = mask[k, j, i] != 0
                    away = 1
                    while away <= REACH:
                        before, behind = i - away, i + away
                        one = mask[k, j, before] != 0 if before >= 0 else False
                        two = mask[k, j, behind] != 0 if behind < ni else False
                        if one != inside or two != inside:
                            break
                        away += 1
                    far = min(np.float32(away * step) ** 2, np.float32(most))
                    out[k, j, i] = far if inside else -far
                block = after


@kernel
def _along_columns(a, step, near, start, end, out):
    nj, ni = a.shape[1], a.shape[2]
    for k in range(start, end):
        for j in range(nj):
            for i in range(ni):
                out[k, j, i] = a[k, j, i]
            block = 0
            while block < near.shape[2]:
                after = _run(near, k, j, block)
                low, high = block * BLOCK, min(after * BLOCK, ni)
                block = max(after, block + 1)
                for n in range(-REACH, REACH + 1):
                    more = np.float32((n * step) ** 2)
                    if n == 0 or low == high:
                        continue
                    if 0 <= j + n < nj:
                        _nearer(a[k, j, low:high], a[k, j + n, low:high], more, out[k, j, low:high])
                    else:
                        _to_nothing(a[k, j, low:high], more, out[k, j, low:high])


@kernel
def _along_slices(a, step, near, start, end, out):
    nk, ni = a.shape[0], a.shape[2]
    for k in range(start, end):
        for j in range(a.shape[1]):
            for i in range(ni):
                out[k, j, i] = a[k, j, i]
            block = 0
            while block < near.shape[2]:
                after = _run(near, k, j, block)
                low, high = block * BLOCK, min(after * BLOCK, ni)
                block = max(after, block + 1)
                for n in range(-REACH, REACH + 1):
                    more = np.float32((n * step) ** 2)
                    if n == 0 or low == high:
                        continue
                    if 0 <= k + n < nk:
                        _nearer(a[k, j, low:high], a[k + n, j, low:high], more, out[k, j, low:high])
                    else:
                        _to_nothing(a[k, j, low:high], more, out[k, j, low:high])
            for i in range(ni):
                value = out[k, j, i]
                root = np.sqrt(abs(value))
                out[k, j, i] = root if value > 0 else -root


@kernel(fastmath=True)
def _nearer(here, there, more, out):
    """Squared distances of a row by way of another row, `more` away."""
    zero = np.float32(0)
    for i in range(here.shape[0]):
        inside = min(out[i], max(there[i], zero) + more)
        outside = max(out[i], min(there[i], zero) - more)
        out[i] = inside if here[i] > 0 else outside


@kernel
def _to_nothing(here, more, out):
    """Squared distances of a row to the outside, `more` away."""
    for i in range(here.shape[0]):
        if here[i] > 0:
            out[i] = min(out[i], more)


@kernel(fastmath=True)
def _blur_rows(a, taps, near, start, end, out):
    ni = a.shape[2]
    for k in range(start, end):
        for j in range(a.shape[1]):
            for i in range(ni):
                out[k, j, i] = a[k, j, i]
            block = 0
            while block < near.shape[2]:
                after = _run(near, k, j, block)
                low, high = block * BLOCK, min(after * BLOCK, ni)
                block = max(after, block + 1)
                first, last = min(max(low, WIDE), high), max(min(high, ni - WIDE), low)
                for i in range(low, high):
                    if first <= i < last:
                        continue
                    total = np.float32(0)
                    for n in range(taps.shape[0]):
                        total += taps[n] * a[k, j, min(max(i + n - WIDE, 0), ni - 1)]
                    out[k, j, i] = total
                for i in range(first, last):
                    total = taps[0] * a[k, j, i - WIDE]
                    for n in range(1, 2 * WIDE + 1):
                        total += taps[n] * a[k, j, i + n - WIDE]
                    out[k, j, i] = total


@kernel(fastmath=True)
def _blur_columns(a, taps, near, start, end, out):
    nj, ni = a.shape[1], a.shape[2]
    for k in range(start, end):
        for j in range(nj):
            for i in range(ni):
                out[k, j, i] = a[k, j, i]
            block = 0
            while block < near.shape[2]:
                after = _run(near, k, j, block)
                low, high = block * BLOCK, min(after * BLOCK, ni)
                block = max(after, block + 1)
                if low < high:
                    into = out[k, j, low:high]
                    into[:] = 0
                    for n in range(taps.shape[0]):
                        _add(a[k, min(max(j + n - WIDE, 0), nj - 1), low:high], taps[n], into)


@kernel(fastmath=True)
def _blur_slices(a, taps, near, start, end, out):
    nk, ni = a.shape[0], a.shape[2]
    for k in range(start, end):
        for j in range(a.shape[1]):
            for i in range(ni):
                out[k, j, i] = a[k, j, i]
            block = 0
            while block < near.shape[2]:
                after = _run(near, k, j, block)
                low, high = block * BLOCK, min(after * BLOCK, ni)
                block = max(after, block + 1)
                if low < high:
                    into = out[k, j, low:high]
                    into[:] = 0
                    for n in range(taps.shape[0]):
                        _add(a[min(max(k + n - WIDE, 0), nk - 1), j, low:high], taps[n], into)


@kernel(fastmath=True)
def _add(row, share, into):
    for i in range(row.shape[0]):
        into[i] += share * row[i]


@kernel
def _keep_sides(mask, least, thin, near, start, end, field):
    """Every voxel stays on its side of zero."""
    nk, nj, ni = mask.shape
    for k in range(start, end):
        for j in range(nj):
            for block in range(near.shape[2]):
                if near[k // BLOCK, j // BLOCK, block] == 0:
                    continue
                for i in range(block * BLOCK, min((block + 1) * BLOCK, ni)):
                    value, inside = field[k, j, i], mask[k, j, i] != 0
                    if (value > thin and inside) or (value < -thin and not inside):
                        continue
                    bound = thin if _alone(mask, inside, k, j, i) else least
                    field[k, j, i] = max(value, bound) if inside else min(value, -bound)


@kernel
def _alone(mask, inside, k, j, i):
    """Whether a voxel lies between two of the other side, along one of the axes."""
    nk, nj, ni = mask.shape
    if 0 < i < ni - 1 and (mask[k, j, i - 1] != 0) != inside and (mask[k, j, i + 1] != 0) != inside:
        return True
    if 0 < j < nj - 1 and (mask[k, j - 1, i] != 0) != inside and (mask[k, j + 1, i] != 0) != inside:
        return True
    return 0 < k < nk - 1 and (mask[k - 1, j, i] != 0) != inside and (mask[k + 1, j, i] != 0) != inside
