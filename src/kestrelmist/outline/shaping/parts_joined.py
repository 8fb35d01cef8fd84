"""Parts of a region that touch are joined where the contact between them is wide, and stay apart where it is a neck.

A watershed of the distance inside makes many small parts (`necks`). Two of them belong together when the area of their
contact is about as large as the cross-section of the thinner one: its size, divided by its length. So the halves of a
rod are one part, and so are the two sides of a plate, however thin, while two balls that touch are not. The best two
are joined first, and count as one from then on.
"""

from __future__ import annotations

import heapq

import numpy as np

from ...core.errors import Cancelled
from ...core.kernel import kernel

SLANTED = (1.0, 1.13, 1.2)
"""By how much faces of voxels overstate contacts that lie askew, along 1, 2 or 3 axes."""
BALLS = (1.0, 1.1, 1.16)
"""Contact over cross-section of two equal balls (discs) whose neck is as thick as they are: rises with the neck's
thickness, in a volume with its square."""


def joined_parts(
    numbers: np.ndarray, count: int, spacing, neck: float, least: float, stop: np.ndarray
) -> tuple[np.ndarray, int]:
    """Numbers of the parts that are left, the largest first, and how many there are.

    Parameters
    ----------
    numbers : int32 array [k, j, i]
        Small parts, from 1 on; 0 outside.
    count : number
        The largest number.
    spacing : three lengths along k, j, i
    neck : share
        Parts stay apart where the neck between them is at most this share as thick as the thinner of them.
    least : voxels
        Parts with fewer join that neighbour with which they share the largest contact.
    """
    steps = np.array(spacing, float)
    wide = np.array([n > 1 for n in numbers.shape])
    dimensions = max(1, int(wide.sum()))
    sizes, firsts, seconds = np.zeros(count + 1), np.zeros((count + 1, 3)), np.zeros((count + 1, 3, 3))
    _moments(numbers, sizes, firsts, seconds, stop)
    if stop[0]:
        raise Cancelled
    cell = steps / steps[wide].min() if wide.any() else np.ones(3)
    cell = np.where(wide, cell, 1.0)
    firsts *= cell
    seconds *= np.outer(cell, cell)
    volume = float(np.prod(cell))
    parts = _Parts(sizes, firsts, seconds, volume, cell)
    faces = [volume / cell[axis] / SLANTED[dimensions - 1] for axis in range(3)]
    for axis in np.flatnonzero(wide):
        for one, other, many in _contacts(numbers, int(axis)):
            parts.touch(one, other, many * faces[axis])
    parts.join(BALLS[dimensions - 1] * neck ** max(1, dimensions - 1), stop)
    parts.join_small(least, stop)
    if stop[0]:
        raise Cancelled
    roots = np.array([parts.root(n) for n in range(count + 1)])
    found = np.flatnonzero([n > 0 and roots[n] == n and parts.sizes[n] > 0 for n in range(count + 1)])
    ranked = found[np.argsort(-parts.sizes[found], kind="stable")]
    renumbered = np.zeros(count + 1, np.int32)
    renumbered[ranked] = np.arange(1, ranked.size + 1)
    return renumbered[roots][numbers], int(ranked.size)


class _Parts:
    """Parts with their sizes, cross-sections and contacts; joining keeps all of it up to date."""

    def __init__(self, sizes, firsts, seconds, volume: float, cell):
        self.sizes, self.firsts, self.seconds, self.volume, self.cell = sizes, firsts, seconds, volume, cell
        self.parent = list(range(len(sizes)))
        self.seen = [0] * len(sizes)
        """How often each has grown: what was worked out before counts no more."""
        self.beside: list[dict[int, float]] = [{} for _ in sizes]
        self.across = [0.0] + [self._across(n) if sizes[n] else 0.0 for n in range(1, len(sizes))]

    def _across(self, n: int) -> float:
        """Cross-section: the size over the length of a rod that is spread as far."""
        size = self.sizes[n]
        middle = self.firsts[n] / size
        spread = self.seconds[n] / size - np.outer(middle, middle) + np.diag(self.cell**2) / 12
        return float(size * self.volume / np.sqrt(12 * np.linalg.eigvalsh(spread)[-1]))

    def touch(self, one: int, other: int, area: float) -> None:
        self.beside[one][other] = self.beside[one].get(other, 0.0) + area
        self.beside[other][one] = self.beside[one][other]

    def root(self, n: int) -> int:
        while self.parent[n] != n:
            self.parent[n] = self.parent[self.parent[n]]
            n = self.parent[n]
        return n

    def _entry(self, a: int, b: int) -> tuple[float, int, int, int, int]:
        a, b = min(a, b), max(a, b)
        strength = self.beside[a][b] / min(self.across[a], self.across[b])
        return -strength, a, b, self.seen[a], self.seen[b]

    def join(self, limit: float, stop: np.ndarray) -> None:
        """Join the best two again and again, as long as their contact is larger than a share of the cross-section."""
        waiting = [self._entry(a, b) for a in range(len(self.sizes)) for b in self.beside[a] if a < b]
        heapq.heapify(waiting)
        while waiting and not stop[0]:
            strength, a, b, seen_a, seen_b = heapq.heappop(waiting)
            if -strength <= limit:
                return
            if (self.seen[a], self.seen[b]) != (seen_a, seen_b):
                continue
            kept = self._one(a, b)
            for other in self.beside[kept]:
                heapq.heappush(waiting, self._entry(kept, other))

    def join_small(self, least: float, stop: np.ndarray) -> None:
        """Those with fewer voxels join a neighbour, the smallest first."""
        waiting = [(float(size), n) for n, size in enumerate(self.sizes) if n and 0 < size < least]
        heapq.heapify(waiting)
        while waiting and not stop[0]:
            size, n = heapq.heappop(waiting)
            if self.parent[n] != n or self.sizes[n] != size or not self.beside[n]:
                continue  # it has joined another one, or grown: then it waits again
            kept = self._one(n, max(self.beside[n], key=lambda m: self.beside[n][m]))
            if self.sizes[kept] < least:
                heapq.heappush(waiting, (float(self.sizes[kept]), kept))

    def _one(self, a: int, b: int) -> int:
        """Two become one, which keeps the number of the larger."""
        if self.sizes[b] > self.sizes[a]:
            a, b = b, a
        self.parent[b] = a
        self.seen[a] += 1
        self.seen[b] += 1
        for held in (self.sizes, self.firsts, self.seconds):
            held[a] += held[b]
        self.across[a] = self._across(a)
        for other, area in self.beside[b].items():
            del self.beside[other][b]
            if other != a:
                self.touch(a, other, area)
        self.beside[b] = {}
        return a


def _contacts(numbers: np.ndarray, axis: int) -> list[tuple[int, int, int]]:
    """Parts that touch along an axis, with how many faces."""
    turned = np.moveaxis(numbers, axis, 0)
    codes = []
    for n in range(turned.shape[0] - 1):  # slice by slice: most neighbours are of one part
        one, other = turned[n], turned[n + 1]
        meets = (one != other) & (one > 0) & (other > 0)
        if meets.any():
            a, b = one[meets].astype(np.int64), other[meets].astype(np.int64)
            codes.append(np.minimum(a, b) << 32 | np.maximum(a, b))
    if not codes:
        return []
    found, many = np.unique(np.concatenate(codes), return_counts=True)
    return [(int(c >> 32), int(c & 0xFFFFFFFF), int(m)) for c, m in zip(found, many)]


@kernel
def _moments(numbers, sizes, firsts, seconds, stop):
    nk, nj, ni = numbers.shape
    for k in range(nk):
        if stop[0]:
            return
        for j in range(nj):
            for i in range(ni):
                n = numbers[k, j, i]
                if n == 0:
                    continue
                at = (float(k), float(j), float(i))
                sizes[n] += 1
                for a in range(3):
                    firsts[n, a] += at[a]
                    for b in range(3):
                        seconds[n, a, b] += at[a] * at[b]
