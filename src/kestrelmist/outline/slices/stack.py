"""Drawn slices of a label that lie along the grid, and what lies between them."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ...core.progress import Progress
from ...core.space import Space
from .between import Drawn, Slab, bodies, rounded, slabs
from .drawn_slices import Family

NOWHERE = np.float32(-1e9)


class Stack:
    """Slices of one plane. Of every voxel [k, j, i] of a box it tells how far along the stack it lies (`places`, which
    is broadcast to the box), and of drawn slices where they lie (`at`, in order) and how thick they are (`thick`)."""

    at: np.ndarray
    thick: float
    step: float
    spacing: tuple[float, float]

    def __init__(self):
        self.filled: list[tuple[float, float]] = []  # stretches that are filled, along the stack
        self.apart = 0  # wide gaps that are left open

    @property
    def places(self) -> np.ndarray:
        """How far along the stack voxels lie."""
        raise NotImplementedError

    @property
    def away(self) -> np.ndarray:
        """How far the nearest drawn slice is."""
        raise NotImplementedError

    @property
    def drawn_in(self) -> np.ndarray:
        """Which voxels lie in a drawn slice."""
        return self.away <= self.thick / 2

    def field(self, round_ends: bool, progress: Progress) -> np.ndarray:
        """Above 0 inside, float32 [k, j, i]; far below 0 where nothing is."""
        raise NotImplementedError

    def beyond(self, goes_on: bool) -> np.ndarray:
        """Voxels before the first drawn slice and after the last; if it goes on, those as far away as another one
        would have been drawn."""
        first, last = self.at[0], self.at[-1]
        more = (self.at[1] - first, last - self.at[-2]) if goes_on else (self.step, self.step)
        near = 0.5 * self.step
        return (self.places < first - more[0] + near) | (self.places > last + more[1] - near)

    def fill_beyond(self, field: np.ndarray) -> None:
        """Note what a field fills before the first drawn slice and after the last."""
        used = np.broadcast_to(self.places, field.shape)[field > 0]
        for part in (used[used < self.at[0] - self.thick / 2], used[used > self.at[-1] + self.thick / 2]):
            if part.size:
                self.filled.append((float(part.min()), float(part.max())))

    def between(self, drawn: list[Drawn], round_ends: bool, progress: Progress) -> Iterator[tuple[int, Slab]]:
        """From how many steps on, and what is there."""
        several, done = bodies(drawn, self.spacing, self.step), 0
        self.apart = len(several) - 1
        for body in several:
            numbers = [round(one.at / self.step) for one in body]
            for n, found in slabs(body, self.spacing, self.step):
                progress.at((done + n) / len(drawn), "Bridging slices")
                yield from ((numbers[n] + 1, slab) for slab in found)
                self.filled.append((body[n].at + self.step, body[n + 1].at - self.step))
            for upwards in (False, True) if round_ends else ():
                for slab in rounded(body, upwards, self.spacing, self.step):
                    first = numbers[-1] + 1 if upwards else numbers[0] - len(slab.values)
                    grown = [first + n for n, one in enumerate(slab.values) if (one > 0).any()]
                    if grown:
                        yield first, slab
                        self.filled.append((grown[0] * self.step, grown[-1] * self.step))
            done += len(body)


class AlongGrid(Stack):
    """Slices of a mask [k, j, i] across one of its axes."""

    def __init__(self, mask: np.ndarray, one: Family, space: Space):
        super().__init__()
        self.axis, self.mask = 2 - one.axis, mask
        self.step = self.thick = space.spacing[one.axis]
        wide, high = (space.spacing[n] for n in range(3) if n != one.axis)
        self.spacing = high, wide
        self.at = np.array(one.slices) * self.step

    @property
    def places(self) -> np.ndarray:
        along = np.arange(self.mask.shape[self.axis]) * self.step
        return along.reshape([-1 if n == self.axis else 1 for n in range(3)])

    @property
    def away(self) -> np.ndarray:
        return np.abs(self.places[..., None] - self.at).min(-1).astype(np.float32)

    def slabs(self, round_ends: bool, progress: Progress) -> Iterator[tuple[int, Slab]]:
        """From which slice on, and what is there; nothing beyond the mask."""
        across = np.moveaxis(self.mask, self.axis, 0)
        numbers = np.round(self.at / self.step).astype(int)
        drawn = [Drawn(at, np.ascontiguousarray(across[n])) for n, at in zip(numbers, self.at)]
        for first, slab in self.between(drawn, round_ends, progress):
            low, high = max(0, -first), min(len(slab.values), len(across) - first)
            if high > low:
                yield first + low, Slab(slab.box, slab.values[low:high])

    def field(self, round_ends: bool, progress: Progress) -> np.ndarray:
        found = np.full(self.mask.shape, NOWHERE)
        across = np.moveaxis(found, self.axis, 0)
        for first, slab in self.slabs(round_ends, progress):
            part = across[first : first + len(slab.values), slab.box[0], slab.box[1]]
            np.maximum(part, slab.values, out=part)
        return found

    def stretches(self, corner: tuple[int, int, int]) -> list[tuple[int, int, int]]:
        """What is filled, as slices of the grid: its axis, the first and the last."""
        first, last, axis = corner[self.axis], self.mask.shape[self.axis] - 1, self.axis
        ends = [(max(0, round(a / self.step)), min(last, round(b / self.step))) for a, b in self.filled]
        return [(2 - axis, first + a, first + b) for a, b in ends if a <= b]
