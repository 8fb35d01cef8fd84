"""Down a smooth cost of a few numbers, by the limited-memory method of D. C. Liu and J. Nocedal (Math. Program. 45,
1989).

Written here, as the libraries' call threads of linear algebra at each step, which for a dozen numbers wait for one
another longer than the cost takes to work out.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable

import numpy as np

KEPT = 8
"""Steps that are remembered."""
ENOUGH, TRIES = 1e-4, 14
"""Share of the promised fall that a step must bring, and how often it is shortened for that."""

Cost = Callable[[np.ndarray], tuple[float, np.ndarray]]


def descended(cost: Cost, start: np.ndarray, after: Callable[[np.ndarray, float], bool], most: int) -> np.ndarray:
    """Where a cost is lowest near a start.

    Parameters
    ----------
    cost : callable
        `cost(numbers)`: the cost and its slope.
    after : callable
        `after(numbers, cost)` is called after each step, and says whether that was the last one.
    most : int
        Steps at most.
    """
    at = np.array(start, float)
    value, slope = cost(at)
    steps: deque[tuple[np.ndarray, np.ndarray, float]] = deque(maxlen=KEPT)
    for _ in range(most):
        way = _way(slope, steps)
        fall = float(way @ slope)
        if not fall < 0:  # what is remembered misleads
            steps.clear()
            way, fall = -slope, -float(slope @ slope)
        if not fall < 0:
            break
        length = 1.0 if steps else 1.0 / max(float(np.linalg.norm(slope)), 1e-30)
        found = _tried(cost, at, value, way, fall, length)
        if found is None:
            if not steps:
                break
            steps.clear()
            continue
        there, lower, steep = found
        moved, turned = there - at, steep - slope
        both = float(moved @ turned)
        if both > 1e-12 * float(np.linalg.norm(moved) * np.linalg.norm(turned)):
            steps.append((moved, turned, both))
        at, value, slope = there, lower, steep
        if after(at, value):
            break
    return at


def _way(slope: np.ndarray, steps: deque[tuple[np.ndarray, np.ndarray, float]]) -> np.ndarray:
    """The way down, from the slope and what the last steps told of how it bends."""
    way, shares = -slope, []
    for moved, turned, both in reversed(steps):
        share = float(moved @ way) / both
        shares.append(share)
        way = way - share * turned
    if steps:
        _, turned, both = steps[-1]
        way = way * (both / float(turned @ turned))
    for (moved, turned, both), share in zip(steps, reversed(shares)):
        way = way + (share - float(turned @ way) / both) * moved
    return way


def _tried(
    cost: Cost, at: np.ndarray, value: float, way: np.ndarray, fall: float, length: float
) -> tuple[np.ndarray, float, np.ndarray] | None:
    """A step along a way that is short enough to bring what it promises."""
    for _ in range(TRIES):
        there = at + length * way
        found, slope = cost(there)
        if found <= value + ENOUGH * length * fall:
            return there, found, slope
        # where the parabola through what is known is lowest
        bend = found - value - length * fall
        best = -fall * length**2 / (2 * bend) if np.isfinite(bend) and bend > 0 else 0.1 * length
        length = min(max(best, 0.1 * length), 0.5 * length)
    return None
