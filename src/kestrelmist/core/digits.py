"""How many decimals a number deserves: as many as its range asks for."""

from __future__ import annotations

import math
from decimal import Decimal

STEPS = 10_000
"""How finely a range is told apart."""
MOST = 12


def decimals_for(low: float, high: float, whole: bool = False) -> int:
    """Decimals that tell ten thousand steps of a range apart; none for whole numbers.

    >>> decimals_for(0, 0.01), decimals_for(-1024, 3000), decimals_for(0, 1e6), decimals_for(0, 255, whole=True)
    (6, 1, 0, 0)
    """
    span = abs(high - low)
    if whole or not math.isfinite(span) or span == 0:
        return 0 if whole else 3
    return min(MOST, max(0, math.ceil(-math.log10(span / STEPS) - 1e-9)))


def decimals_of(step: float) -> int:
    """Decimals that show a single step of a size: what is counted in voxels is told to one voxel.

    >>> decimals_of(0.00045), decimals_of(0.125), decimals_of(1.0), decimals_of(1e3)
    (4, 1, 1, 0)
    """
    return min(MOST, max(0, math.floor(-math.log10(step)) + 1)) if step > 0 else 3


def plain(value: float) -> str:
    """A number with all its digits and no more: the shortest text that is read back as the same one.

    >>> plain(0.00246), plain(1.2345e-7), plain(12345678.9), plain(3.0), plain(1e-30)
    ('0.00246', '0.00000012345', '12345678.9', '3', '1e-30')
    """
    text = repr(float(value))
    if "e" in text and 1e-12 < abs(value) < 1e18:
        text = format(Decimal(text), "f")
    return text.removesuffix(".0")


def rounded(value: float, low: float, high: float, whole: bool = False) -> float:
    """A value rounded to the decimals that its range deserves.

    >>> rounded(0.00123456789, 0, 0.01)
    0.001235
    """
    return round(float(value), decimals_for(low, high, whole))


def signed(value: float, decimals: int, width: int = 0) -> str:
    """A number with its sign, as a person reads it: a true minus sign, and no sign on what rounds to zero.

    >>> signed(-0.001, 2), signed(-1.5, 2), signed(2, 1)
    (' 0.00', '−1.50', '+2.0')
    """
    text = f"{value:+.{decimals}f}"
    if not any(c in "123456789" for c in text):
        text = " " + text[1:]
    return text.replace("-", "−").rjust(width)


def round_below(most: float) -> float:
    """The largest of 1, 2 and 5 times a power of ten that is at most so much.

    >>> round_below(0.07), round_below(9.9), round_below(200)
    (0.05, 5, 200)
    """
    power = 10 ** math.floor(math.log10(most) + 1e-12)
    return next(m * power for m in (5, 2, 1) if m * power <= most * (1 + 1e-12))
