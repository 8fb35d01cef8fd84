"""One line of the benchmark table, and how to time fairly on a noisy machine."""

from __future__ import annotations

import gc
import re
import time
from collections.abc import Callable
from dataclasses import dataclass


@dataclass(frozen=True)
class Row:
    """`ours` and `baseline` in `unit`; `ratio` is ours over baseline (None without a baseline). A goal that is a ratio
    at most ("ratio ≤ 0.5", "≤ 0.05") gives the verdict by itself."""

    name: str
    ours: float
    baseline: float | None
    baseline_name: str
    goal: str
    unit: str = "s"
    lower_is_better: bool = True
    met: bool | None = None

    def __post_init__(self):
        limit = re.fullmatch(r"(?:ratio )?≤ ([\d.]+)", self.goal)
        if self.met is None and limit is not None and self.ratio is not None:
            object.__setattr__(self, "met", self.ratio <= float(limit.group(1)))

    @property
    def ratio(self) -> float | None:
        return None if self.baseline is None else self.ours / self.baseline


def best_of(work: Callable, times: int = 5) -> float:
    """Shortest of several runs, s: the one the machine disturbed least."""
    found = []
    for _ in range(times):
        gc.collect()
        started = time.perf_counter()
        work()
        found.append(time.perf_counter() - started)
    return min(found)


def in_turn(ours: Callable, baseline: Callable, times: int = 4) -> tuple[float, float]:
    """Shortest of each, taken alternately, so that a slow minute hits both."""
    mine, theirs = [], []
    for _ in range(times):
        mine.append(best_of(ours, 1))
        theirs.append(best_of(baseline, 1))
    return min(mine), min(theirs)
