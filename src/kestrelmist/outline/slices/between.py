"""The shape between drawn slices.

In each drawn slice a function is worked out whose zero is the outline; between slices it is interpolated, and the
region is where it is above zero (shape-based interpolation: S. P. Raya and J. K. Udupa, IEEE Trans. Med. Imaging 9,
1990; by more than two slices: G. T. Herman, J. Zheng and C. A. Bucholtz, IEEE Computer Graphics and Applications 12,
1992). The function is d (2 D − d), d being the signed distance and D the deepest one: of a disc of radius D it is
D² − r², which runs as a parabola through the slices of a ball, so that round ends come out round.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from ...core.halves import in_halves
from ...core.kernel import kernel
from .fellows import Fellows, fellows, pieces
from .flat_distance import signed_distance

BESIDE = 1.5
"""How far beside it, in distances between two drawn slices, a piece may go on that overlaps nothing."""
LITTLE = 0.15
"""Share of the smaller one that two parts overlap by, below which what is between moves from the one to the other."""
STRAY = 0.35
"""How far a curve through four slices may leave the straight line between two, in its deepest distance."""
LATE = 2.0
"""In how many distances between slices, beyond the last one, a part has to close by itself to be closed within one."""
WIDE = 2.5
"""How many times as wide as those beside it a gap is that may lie between two bodies, as between two eyes."""
SPECK = 0.1
"""Share of the largest piece's area up to which another need not close where two bodies part."""
Ends = tuple[slice, slice]


@dataclass(frozen=True)
class Slab:
    """A field between two drawn slices: above 0 inside, about in lengths.

    `box` are rows and columns of the slice; `values` is float32 [slice, row, column] for the slices between.
    """

    box: Ends
    values: np.ndarray


@dataclass
class Drawn:
    """A drawn slice: where along the stack (in lengths), its mask and its pieces."""

    at: float
    mask: np.ndarray

    def __post_init__(self):
        self.pieces, self.count = pieces(self.mask)
        self._whole: tuple[np.ndarray, float] | None = None

    @property
    def large(self) -> int:
        """How many of its pieces are more than specks beside the largest."""
        areas = np.bincount(self.pieces.ravel())[1:]
        return int(np.count_nonzero(areas > SPECK * areas.max(initial=0)))

    def levelled(self, numbers: Sequence[int], box: Ends, spacing) -> tuple[np.ndarray, float]:
        """The function of some pieces in a box, and its deepest distance; of all pieces it is worked out once."""
        if len(numbers) < self.count:
            return _levelled(self.part(numbers)[box], spacing)
        if self._whole is None:
            self._whole = _levelled(self.mask, spacing)
        return self._whole[0][box], self._whole[1]

    def part(self, numbers: Sequence[int]) -> np.ndarray:
        """Where some of its pieces lie."""
        return self.mask if len(numbers) == self.count else np.isin(self.pieces, numbers)


def slabs(drawn: Sequence[Drawn], spacing: tuple[float, float], step: float) -> Iterator[tuple[int, list[Slab]]]:
    """What lies between each two drawn slices that follow one another.

    Parameters
    ----------
    drawn : list of Drawn
        In order, whole numbers of steps apart.
    spacing : two numbers
        Of rows and columns.
    step : number
        Distance from slice to slice of the grid.

    Yields
    ------
    first : int
        Which drawn slice lies below the slab.
    slabs : list of Slab
        One for each part that goes on; none where slices are neighbours.
    """
    reach = [BESIDE * (b.at - a.at) for a, b in zip(drawn, drawn[1:])]
    groups = [fellows(a.pieces, b.pieces, r, spacing) for a, b, r in zip(drawn, drawn[1:], reach)]
    for n, (a, b) in enumerate(zip(drawn, drawn[1:])):
        count = round((b.at - a.at) / step) - 1
        if count > 0:
            shares = np.arange(1, count + 1) / (count + 1)
            yield n, [_slab(drawn, groups, n, group, shares, spacing) for group in groups[n]]


def rounded(drawn: Sequence[Drawn], upwards: bool, spacing: tuple[float, float], step: float) -> list[Slab]:
    """What lies beyond the last drawn slice (or, downwards, before the first): each part goes on as a parabola through
    three slices does, closed by where another slice would have been drawn (nothing was) if it closes by itself within
    two distances between slices, and not at all otherwise."""
    row = list(drawn) if upwards else list(reversed(drawn))
    gap = abs(row[-1].at - row[-2].at)
    count = round(gap / step) - 1
    if count < 1:
        return []
    reach = BESIDE * gap
    last = row[-3:]
    groups = [fellows(a.pieces, b.pieces, reach, spacing) for a, b in zip(last, last[1:])]
    found = []
    for group in groups[-1]:
        if not group.above or not group.below:
            continue
        stencil = [(row[-2].at, row[-2].part(group.below)), (row[-1].at, row[-1].part(group.above))]
        under = [one for one in groups[0] if set(one.above) & set(group.below)] if len(groups) > 1 else []
        if not any(one.below for one in under):
            continue
        stencil.insert(0, (row[-3].at, row[-3].part([n for one in under for n in one.below])))
        box = _round([mask for _, mask in stencil], row[-1].mask.shape)
        fields = [_levelled(mask[box], spacing) for _, mask in stencil]
        steps = np.append(np.arange(1, count + 2), LATE * (count + 1))
        places = row[-1].at + (1 if upwards else -1) * step * steps
        weights = _beyond(np.array([at for at, _ in stencil]), places)
        scale = 1 / (2 * fields[-1][1])
        values = np.stack([sum(np.float32(w * scale) * f for w, (f, _) in zip(ws, fields)) for ws in weights])
        values = np.minimum(values, np.minimum.accumulate(np.where(stencil[-1][1][box], np.inf, -1e-3)[None], 0))
        if (values[-1] <= 0).all():
            late = np.float32(max(values[-2].max(), 0))  # by so much it is still open where nothing was drawn
            values = values[:count] - late * (steps[:count, None, None] / (count + 1)).astype(np.float32) ** 2
            values = np.minimum.accumulate(values, 0)  # what has closed stays closed
            found.append(Slab(box, values if upwards else values[::-1]))
    return found


def bodies(drawn: Sequence[Drawn], spacing: tuple[float, float], step: float) -> list[list[Drawn]]:
    """Drawn slices of bodies that lie one behind the other, each for itself: where a gap is much wider than those
    beside it, and all that was drawn on both sides of it closes by itself before the other side begins."""
    gaps = np.diff([one.at for one in drawn])
    found, first = [], 0
    for n in range(3, len(drawn) - 2):
        if n - first < 3 or gaps[n - 1] <= WIDE * max(gaps[n - 2], gaps[n]):
            continue
        sides = (drawn[first:n], True), (drawn[n:], False)
        if all(len(rounded(one, up, spacing, step)) >= one[-1 if up else 0].large for one, up in sides):
            found.append(list(drawn[first:n]))
            first = n
    return [*found, list(drawn[first:])]


def _beyond(at: np.ndarray, places: np.ndarray) -> np.ndarray:
    """Of each of three slices, for places beyond the last: the parabola through them."""
    return np.stack(
        [[np.prod([(x - b) / (a - b) for b in at if b != a]) for a in at] for x in places]  # Lagrange
    )


def _slab(drawn, groups, n: int, group: Fellows, shares: np.ndarray, spacing) -> Slab:
    below, above = drawn[n].part(group.below), drawn[n + 1].part(group.above)
    if not group.below or not group.above:
        return _ending(above if group.above else below, bool(group.below), shares, spacing)
    one, other = int(below.sum()), int(above.sum())
    if np.count_nonzero(below & above) < LITTLE * min(one, other):
        return _moving(below, above, shares, spacing)
    stencil = [(drawn[n], group.below), (drawn[n + 1], group.above)]
    under = _goes_on(groups[n - 1], group.below, "above") if n > 0 else None
    over = _goes_on(groups[n + 1], group.above, "below") if n + 1 < len(groups) else None
    if under is not None:
        stencil.insert(0, (drawn[n - 1], under.below))
    if over is not None:
        stencil.append((drawn[n + 2], over.above))
    box = _round([one.part(numbers) for one, numbers in stencil], below.shape)
    fields = [one.levelled(numbers, box, spacing) for one, numbers in stencil]
    deep = [field[1] for field in fields]
    first = 1 if under is not None else 0
    weights = _weights(np.array([one.at for one, _ in stencil]), first, shares)
    scale = 1 / (deep[first] + deep[first + 1])
    stray = STRAY * (deep[first] + deep[first + 1]) / 2
    lines = np.stack((1 - shares, shares), 1) * scale
    stack = np.stack([field for field, _ in fields])
    values = np.empty((len(shares), *stack.shape[1:]), np.float32)
    given = (weights * scale).astype(np.float32), lines.astype(np.float32), np.float32(stray), first
    in_halves(stack.shape[1], lambda a, b: _curves(stack, *given, values, a, b), values.size)
    return Slab(box, values)


@kernel(fastmath={"contract", "nsz"})
def _curves(stack, weights, lines, stray, first, values, low, high):
    """Curves through the slices of a stencil, no further from the line between two than they may stray."""
    for k in range(weights.shape[0]):
        for j in range(low, high):
            for i in range(stack.shape[2]):
                curve = np.float32(0)
                for n in range(stack.shape[0]):
                    curve += weights[k, n] * stack[n, j, i]
                line = lines[k, 0] * stack[first, j, i] + lines[k, 1] * stack[first + 1, j, i]
                values[k, j, i] = min(max(curve, line - stray), line + stray)


def _goes_on(groups: list[Fellows], numbers: tuple[int, ...], side: str) -> Fellows | None:
    """The group that has these pieces and no others on one side, and some on the other."""
    for group in groups:
        mine, theirs = (group.above, group.below) if side == "above" else (group.below, group.above)
        if mine == numbers and theirs:
            return group
    return None


def _round(masks: list[np.ndarray], shape: tuple[int, int]) -> Ends:
    rows, columns = (np.flatnonzero(np.logical_or.reduce([m.any(axis) for m in masks])) for axis in (1, 0))
    # a region may be larger between slices than in them
    more = [max(4, (int(p[-1]) - int(p[0])) // 6) for p in (rows, columns)]
    return tuple(  # type: ignore[return-value]
        slice(max(0, int(p[0]) - m), min(n, int(p[-1]) + 1 + m)) for p, m, n in zip((rows, columns), more, shape)
    )


def _levelled(mask: np.ndarray, spacing) -> tuple[np.ndarray, float]:
    """d (2 D − d) and D."""
    if mask.all():
        return np.full(mask.shape, np.float32(max(spacing) ** 2)), float(max(spacing))
    away = signed_distance(mask, spacing)
    deep = float(away.max())
    return away * (np.float32(2 * deep) - away), deep


def _weights(at: np.ndarray, first: int, shares: np.ndarray) -> np.ndarray:
    """Of each slice of the stencil, for places between its slices `first` and `first + 1`: a cubic whose slopes are
    those of parabolas through three slices (exact for parabolas, however far apart)."""
    width = at[first + 1] - at[first]
    slopes = np.zeros((2, len(at)))
    for n, here in enumerate((first, first + 1)):
        if len(at) == 2:
            slopes[n] = (-1 / width, 1 / width)
            continue
        middle = min(max(here, 1), len(at) - 2)
        x0, x1, x2 = at[middle - 1 : middle + 2]
        x = at[here]
        slopes[n, middle - 1 : middle + 2] = (
            (2 * x - x1 - x2) / ((x0 - x1) * (x0 - x2)),
            (2 * x - x0 - x2) / ((x1 - x0) * (x1 - x2)),
            (2 * x - x0 - x1) / ((x2 - x0) * (x2 - x1)),
        )
    t = shares[:, None]
    found = (t**3 - 2 * t**2 + t) * width * slopes[0] + (t**3 - t**2) * width * slopes[1]
    found[:, first] += 2 * shares**3 - 3 * shares**2 + 1
    found[:, first + 1] += -2 * shares**3 + 3 * shares**2
    return found


def _ending(mask: np.ndarray, upwards: bool, shares: np.ndarray, spacing) -> Slab:
    """A part that goes on nowhere: it runs out before the next drawn slice."""
    box = _round([mask], mask.shape)
    part = mask[box]
    away = signed_distance(part, spacing) if not part.all() else np.full(part.shape, np.float32(max(spacing)))
    deep = np.float32(away.max())
    gone = shares if upwards else 1 - shares
    return Slab(box, np.stack([away - np.float32(g) * deep for g in gone]))


def _moving(below: np.ndarray, above: np.ndarray, shares: np.ndarray, spacing) -> Slab:
    """Two parts that lie beside one another: what is between moves from the middle of the one to that of the other."""
    from scipy import ndimage

    box = _round([below, above], below.shape)
    masks = below[box], above[box]
    fields = [signed_distance(m, spacing) if not m.all() else np.ones(m.shape, np.float32) for m in masks]
    middles = [np.array(ndimage.center_of_mass(m)) for m in masks]
    way = middles[1] - middles[0]
    values = np.empty((len(shares), *masks[0].shape), np.float32)
    for k, share in enumerate(shares):
        one = ndimage.shift(fields[0], share * way, order=1, mode="nearest")
        other = ndimage.shift(fields[1], (share - 1) * way, order=1, mode="nearest")
        values[k] = (1 - share) * one + share * other
    return Slab(box, values)
