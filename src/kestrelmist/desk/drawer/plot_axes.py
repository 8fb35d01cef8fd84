"""The axes of a plot: which part of them is seen, where values stand, and their ticks."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

ROOM = 0.03
"""Share of its length that an axis goes on beyond the outermost values."""


@dataclass(frozen=True)
class PlotAxis:
    """From `low` to `high` along an axis, on which logarithms stand where it is one of them."""

    low: float
    high: float
    log: bool = False

    @classmethod
    def round(cls, values: np.ndarray, log: bool = False) -> PlotAxis:
        """All that is finite, with some room; values are logarithms already where they are."""
        there = values[np.isfinite(values)]
        low, high = (float(there.min()), float(there.max())) if there.size else (0.0, 1.0)
        wide = high - low
        if not wide > 1e-12 * max(abs(low), abs(high)):
            wide = abs(low) or 1.0
        return cls(low - ROOM * wide, high + ROOM * wide, log)

    def share(self, value):
        """Where along the axis something stands, from 0 to 1."""
        return (value - self.low) / (self.high - self.low)

    def value(self, share):
        """What stands at a share of it."""
        return self.low + share * (self.high - self.low)

    def ticks(self, most: int = 5) -> list[tuple[float, str]]:
        """Round places along it and what they are called."""
        wide = self.high - self.low
        if self.log and wide >= 1:
            step = math.ceil(wide / most)
            return [(float(n), _power(n)) for n in range(math.ceil(self.low), math.floor(self.high) + 1, step)]
        low, high = (10**self.low, 10**self.high) if self.log else (self.low, self.high)
        step = _round_step((high - low) / most)
        count = math.floor(high / step) - math.ceil(low / step) + 1
        told = [(math.ceil(low / step) + n) * step for n in range(max(0, min(count, 4 * most)))]
        digits = max(0, -math.floor(math.log10(step) + 1e-9))
        return [(math.log10(v) if self.log else v, _figure(v, step, digits)) for v in told if v > 0 or not self.log]


def _round_step(least: float) -> float:
    power = 10.0 ** math.floor(math.log10(least))
    return next(n * power for n in (1, 2, 5, 10) if n * power >= least * (1 - 1e-9))


def _power(n: int) -> str:
    return f"{10.0**n:g}" if -4 < n < 5 else f"1e{n}".replace("-", "−")


def _figure(value: float, step: float, digits: int) -> str:
    """A number by its last digit that a step changes; very small and very large ones by their power of ten."""
    if value and (abs(value) >= 1e6 or digits > 4):
        own, least = (math.floor(math.log10(abs(one)) + 1e-9) for one in (value, step))
        mantissa, _, power = f"{value:.{max(0, own - least)}e}".partition("e")
        return f"{mantissa}e{int(power)}".replace("-", "−")
    return f"{value:.{min(digits, 4)}f}".replace("-", "−") if value else "0"
